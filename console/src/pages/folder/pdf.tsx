import { getDocument, GlobalWorkerOptions, type PDFDocumentProxy } from "pdfjs-dist";
import worker from "pdfjs-dist/build/pdf.worker.min.mjs?url";
import { useEffect, useRef, useState } from "react";
import { Loading } from "../../ui";

GlobalWorkerOptions.workerSrc = worker;

/** The pages of a PDF, drawn by ourselves: nothing in it is run. */
export default function Pdf({ address, name, pages }: { address: string; name: string; pages: number }) {
  const [document, setDocument] = useState<PDFDocumentProxy>();
  const [failed, setFailed] = useState(false);
  useEffect(() => {
    setDocument(undefined);
    setFailed(false);
    const loading = getDocument({ url: address, enableXfa: false, useSystemFonts: false });
    loading.promise.then(setDocument, () => setFailed(true));
    return () => void loading.destroy();
  }, [address]);
  if (failed) return <p className="p-3 text-muted">This PDF cannot be drawn. Download it to open it.</p>;
  if (!document) return <Loading rows={2} />;
  return (
    <div className="flex flex-col gap-3">
      {Array.from({ length: Math.min(pages, document.numPages) }, (_, i) => (
        <Page
          key={i}
          document={document}
          number={i + 1}
          label={`${name}, page ${i + 1} of ${document.numPages}`}
        />
      ))}
    </div>
  );
}

function Page({ document, number, label }: { document: PDFDocumentProxy; number: number; label: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    let gone = false;
    void document.getPage(number).then((page) => {
      const to = canvas.current;
      if (gone || !to) return;
      const natural = page.getViewport({ scale: 1 });
      const scale = ((to.parentElement?.clientWidth ?? 600) * devicePixelRatio) / natural.width;
      const viewport = page.getViewport({ scale });
      to.width = viewport.width;
      to.height = viewport.height;
      void page.render({ canvas: to, viewport }).promise.catch(() => {});
    });
    return () => {
      gone = true;
    };
  }, [document, number]);
  return <canvas ref={canvas} role="img" aria-label={label} className="block w-full" />;
}
