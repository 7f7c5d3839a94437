/** The pages for strangers: they work without this; it only makes them nicer. */

import "./strangers.css";

const date = new Intl.DateTimeFormat(undefined, { dateStyle: "long", timeStyle: "short" });

// Moments in the reader's own time and words.
for (const time of document.querySelectorAll("time")) {
  const at = new Date(time.dateTime);
  time.title = time.textContent ?? "";
  time.textContent = date.format(at);
}

// A picture that cannot be drawn makes room for its name.
for (const picture of document.querySelectorAll<HTMLImageElement>(".gallery img, .shown img")) {
  const gone = () => picture.remove();
  if (picture.complete && picture.naturalWidth === 0 && picture.loading !== "lazy") gone();
  else picture.addEventListener("error", gone);
}

// Arrows walk through the pictures of a folder.
document.addEventListener("keydown", (e) => {
  const typing = e.target instanceof HTMLElement && e.target.closest("input, textarea, audio, video, pre");
  if (typing || e.altKey || e.ctrlKey || e.metaKey) return;
  const rel = e.key === "ArrowLeft" ? "prev" : e.key === "ArrowRight" ? "next" : undefined;
  if (rel) document.querySelector<HTMLAnchorElement>(`a[rel=${rel}]`)?.click();
});

for (const place of document.querySelectorAll<HTMLElement>("[data-pdf]")) {
  place.querySelector("button")?.addEventListener("click", (e) => {
    (e.currentTarget as HTMLButtonElement).disabled = true;
    void import("./pages").then(({ draw }) => draw(place, place.dataset.pdf!, place.dataset.name ?? ""));
  });
}
