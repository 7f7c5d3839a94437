import { useEffect, useRef, useState, type RefObject } from "react";

/** How wide an element is, in pixels, as it is drawn now. */
export function useWidth<T extends HTMLElement>(usual: number): [RefObject<T | null>, number] {
  const ref = useRef<T>(null);
  const [width, setWidth] = useState(usual);
  useEffect(() => {
    const element = ref.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth));
    observer.observe(element);
    setWidth(element.clientWidth);
    return () => observer.disconnect();
  }, []);
  return [ref, width];
}
