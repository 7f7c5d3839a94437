let touched = Date.now();

/** So long after the last touch, what the page asks for by itself is no use of the browser. */
const AWAY_MS = 300_000;

for (const what of ["pointerdown", "pointermove", "keydown", "wheel", "touchstart"]) {
  window.addEventListener(what, () => (touched = Date.now()), { passive: true, capture: true });
}

/** What a request says while nobody sits there: a rule may sign a browser out that was left alone. */
export function unattended(): Record<string, string> {
  return Date.now() - touched > AWAY_MS ? { "Attic-Unattended": "1" } : {};
}
