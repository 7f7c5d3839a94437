import { micromark } from "micromark";
import { gfm, gfmHtml } from "micromark-extension-gfm";
import { useMemo } from "react";

/** A Markdown text as it is meant to be read. Raw HTML in it stays text, and unsafe addresses are left out. */
export default function Markdown({ text, name }: { text: string; name: string }) {
  const html = useMemo(() => micromark(text, { extensions: [gfm()], htmlExtensions: [gfmHtml()] }), [text]);
  return (
    <div
      role="document"
      tabIndex={0}
      aria-label={name}
      className="prose-attic max-h-[70vh] overflow-y-auto px-2"
      dangerouslySetInnerHTML={{ __html: html }}
    />
  );
}
