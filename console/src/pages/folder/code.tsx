import { HighlightStyle, StreamLanguage, syntaxHighlighting, type StreamParser } from "@codemirror/language";
import { markdown } from "@codemirror/lang-markdown";
import { unifiedMergeView } from "@codemirror/merge";
import { EditorState, type Extension } from "@codemirror/state";
import { tags } from "@lezer/highlight";
import { basicSetup, EditorView } from "codemirror";
import { useEffect, useRef } from "react";

/** Which language a text is in, by its ending; loaded when needed. */
async function languageOf(name: string): Promise<Extension> {
  const ending = name.slice(name.lastIndexOf(".") + 1).toLowerCase();
  const of = (parser: StreamParser<unknown>) => StreamLanguage.define(parser);
  switch (ending) {
    case "md":
      return markdown();
    case "js":
    case "ts":
    case "tsx":
    case "json":
      return of((await import("@codemirror/legacy-modes/mode/javascript")).typescript);
    case "py":
      return of((await import("@codemirror/legacy-modes/mode/python")).python);
    case "rs":
      return of((await import("@codemirror/legacy-modes/mode/rust")).rust);
    case "c":
    case "h":
      return of((await import("@codemirror/legacy-modes/mode/clike")).c);
    case "css":
      return of((await import("@codemirror/legacy-modes/mode/css")).css);
    case "html":
    case "xml":
      return of((await import("@codemirror/legacy-modes/mode/xml")).xml);
    case "yaml":
    case "yml":
      return of((await import("@codemirror/legacy-modes/mode/yaml")).yaml);
    case "toml":
    case "ini":
      return of((await import("@codemirror/legacy-modes/mode/toml")).toml);
    case "sh":
      return of((await import("@codemirror/legacy-modes/mode/shell")).shell);
    case "sql":
      return of((await import("@codemirror/legacy-modes/mode/sql")).standardSQL);
    case "tex":
      return of((await import("@codemirror/legacy-modes/mode/stex")).stex);
    default:
      return [];
  }
}

/** Our own colours: the few of the house, both themes by the same names. */
const colours = HighlightStyle.define([
  { tag: [tags.heading, tags.strong], fontWeight: "700" },
  { tag: tags.emphasis, fontStyle: "italic" },
  { tag: [tags.keyword, tags.operatorKeyword, tags.tagName], color: "var(--teal)" },
  { tag: [tags.string, tags.link, tags.url], color: "var(--brick)" },
  { tag: [tags.comment, tags.meta, tags.quote], color: "var(--muted)" },
  { tag: [tags.number, tags.bool, tags.atom], color: "var(--teal)" },
]);

const look = EditorView.theme({
  "&": { backgroundColor: "var(--sheet)", color: "var(--ink)", height: "100%", fontSize: "14px" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "1.5" },
  ".cm-gutters": {
    backgroundColor: "var(--sheet)",
    color: "var(--muted)",
    borderRight: "1px solid var(--line)",
  },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "transparent" },
  "&.cm-focused .cm-activeLine": { backgroundColor: "var(--paper)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "var(--gold-wash) !important",
  },
  ".cm-panels": { backgroundColor: "var(--paper)", color: "var(--ink)" },
  ".cm-changedLine": { backgroundColor: "var(--gold-wash) !important" },
  ".cm-changedLineGutter": { backgroundColor: "var(--gold) !important" },
  ".cm-deletedLineGutter": { backgroundColor: "var(--brick) !important" },
  ".cm-changedText": {
    background: "linear-gradient(var(--gold), var(--gold)) bottom/100% 2px no-repeat !important",
  },
  ".cm-deletedText, .cm-deletedChunk .cm-deletedText": {
    background: "none !important",
    textDecoration: "line-through",
  },
  ".cm-deletedChunk": { backgroundColor: "var(--brick-wash) !important" },
});

interface Props {
  name: string;
  text: string;
  /** Shown as what it differs from. */
  against?: string;
  readOnly: boolean;
  label: string;
  onChange?: (text: string) => void;
  onSave?: () => void;
}

/** A text with line numbers and colours; to read, to edit, or beside another. */
export default function Code({ name, text, against, readOnly, label, onChange, onSave }: Props) {
  const ref = useRef<HTMLDivElement>(null);
  const calls = useRef({ onChange, onSave });
  calls.current = { onChange, onSave };
  // What is only shown is shown anew when it changes; what is edited is the editor's own.
  const shown = readOnly ? text : "";
  const start = useRef(text);
  if (readOnly) start.current = text;
  useEffect(() => {
    const parent = ref.current;
    if (!parent) return;
    let view: EditorView | undefined;
    let gone = false;
    void languageOf(name).then((language) => {
      if (gone) return;
      const nonce = document.querySelector<HTMLMetaElement>("meta[name=style-nonce]")?.content ?? "";
      view = new EditorView({
        parent,
        state: EditorState.create({
          doc: start.current,
          extensions: [
            basicSetup,
            language,
            look,
            syntaxHighlighting(colours),
            EditorView.cspNonce.of(nonce),
            EditorView.lineWrapping,
            EditorView.contentAttributes.of({ "aria-label": label, ...(readOnly ? { tabindex: "0" } : {}) }),
            EditorState.readOnly.of(readOnly),
            EditorView.editable.of(!readOnly),
            against === undefined
              ? []
              : unifiedMergeView({ original: against, mergeControls: false, highlightChanges: true }),
            EditorView.updateListener.of((update) => {
              if (update.docChanged) calls.current.onChange?.(update.state.doc.toString());
            }),
            EditorView.domEventHandlers({
              keydown: (e) => {
                if ((e.ctrlKey || e.metaKey) && e.key === "s") {
                  e.preventDefault();
                  calls.current.onSave?.();
                }
              },
            }),
          ],
        }),
      });
      if (!readOnly) view.focus();
    });
    return () => {
      gone = true;
      view?.destroy();
    };
  }, [name, against, readOnly, label, shown]);
  return <div ref={ref} className="min-h-0 flex-1 overflow-hidden rounded-lg border border-line" />;
}
