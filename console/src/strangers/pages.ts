/** The pages of a PDF, drawn by ourselves: nothing in it is run. */

import { getDocument, GlobalWorkerOptions } from "pdfjs-dist";
import worker from "pdfjs-dist/build/pdf.worker.min.mjs?url";

GlobalWorkerOptions.workerSrc = worker;
/** More pages than that are left to the download. */
const most = 50;

export async function draw(place: HTMLElement, address: string, name: string) {
  try {
    const pdf = await getDocument({ url: address, enableXfa: false, useSystemFonts: false }).promise;
    const pages = Math.min(most, pdf.numPages);
    place.replaceChildren();
    for (let n = 1; n <= pages; n += 1) {
      const canvas = document.createElement("canvas");
      canvas.setAttribute("role", "img");
      canvas.setAttribute("aria-label", `${name}, page ${n} of ${pdf.numPages}`);
      place.append(canvas);
      const page = await pdf.getPage(n);
      const natural = page.getViewport({ scale: 1 });
      const viewport = page.getViewport({ scale: (place.clientWidth * devicePixelRatio) / natural.width });
      canvas.width = viewport.width;
      canvas.height = viewport.height;
      await page.render({ canvas, viewport }).promise;
    }
    if (pdf.numPages > pages) place.append(said(`These are the first ${pages} of ${pdf.numPages} pages.`));
  } catch {
    place.replaceChildren(said("This PDF cannot be drawn here."));
  }
}

function said(text: string): HTMLElement {
  const p = document.createElement("p");
  p.className = "muted";
  p.textContent = text;
  return p;
}
