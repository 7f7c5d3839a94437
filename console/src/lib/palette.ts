/** Opening the palette, from anywhere. */

const event = "attic-palette";

export function openPalette() {
  window.dispatchEvent(new Event(event));
}

/** Calls back when it is asked for, by a button or by Ctrl K. */
export function onPalette(open: () => void): () => void {
  const onKey = (e: KeyboardEvent) => {
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
      e.preventDefault();
      open();
    }
  };
  window.addEventListener(event, open);
  window.addEventListener("keydown", onKey);
  return () => {
    window.removeEventListener(event, open);
    window.removeEventListener("keydown", onKey);
  };
}
