import { useQuery } from "@tanstack/react-query";
import { ChevronLeft, ChevronRight, Download, Pencil } from "lucide-react";
import { lazy, Suspense, useEffect } from "react";
import { contentAddress, refusalOf, thumbnailAddress, type Node } from "../../lib/api";
import { editable, lookOf, shownByBrowsers } from "../../lib/kinds";
import { size } from "../../lib/show";
import { Button, Dialog, DialogActions, FileIcon, IconButton, Loading, Notice } from "../../ui";
import { Picture } from "./picture";
import { key } from "../../lib/query-keys";

const Pdf = lazy(() => import("./pdf"));
const Code = lazy(() => import("./code"));
const Markdown = lazy(() => import("./markdown"));
const Table = lazy(() => import("./table"));

/** As much of a text as a preview shows: small beside the list, large in front of the page. */
const glance = 64 * 1024;
const whole = 4 * 1024 * 1024;

interface Props {
  node: Node;
  at?: string;
  large?: boolean;
}

/** A file, looked at without downloading it. */
export function Preview({ node, at, large = false }: Props) {
  const look = lookOf(node.name);
  const box = large ? "" : "h-[142px] overflow-hidden rounded-lg border border-line bg-sheet";
  const address = contentAddress(node.id, at);
  if (node.kind === "folder" || node.held === false) return null;
  switch (look) {
    case "image":
      if (large && shownByBrowsers(node.name)) return <Picture address={address} name={node.name} />;
      if (!large && at === undefined) {
        return (
          <div className={`flex items-center justify-center ${box}`}>
            <img
              key={node.etag}
              src={thumbnailAddress(node)}
              alt={node.name}
              className="size-full object-cover"
            />
          </div>
        );
      }
      if (shownByBrowsers(node.name)) {
        return (
          <div className={`flex items-center justify-center ${box}`}>
            <img src={address} alt={node.name} className="size-full object-cover" />
          </div>
        );
      }
      return <NoPreview node={node} large={large} box={box} />;
    case "text":
    case "markdown":
    case "table":
      return <Text node={node} at={at} large={large} box={box} />;
    case "sound":
      return large ? (
        // eslint-disable-next-line jsx-a11y/media-has-caption
        <audio controls src={address} className="my-10 w-full" aria-label={node.name} />
      ) : (
        <NoPreview node={node} large={false} box={box} />
      );
    case "film":
      return large ? (
        // eslint-disable-next-line jsx-a11y/media-has-caption
        <video
          controls
          preload="metadata"
          src={address}
          className="max-h-[68vh] w-full rounded-lg bg-[#000]"
          aria-label={node.name}
        />
      ) : (
        <NoPreview node={node} large={false} box={box} />
      );
    case "pdf":
      return (
        <div
          className={large ? "max-h-[70vh] overflow-y-auto" : box}
          {...(large ? { tabIndex: 0, role: "region", "aria-label": `Pages of ${node.name}` } : {})}
        >
          <Suspense fallback={<Loading rows={2} />}>
            <Pdf address={address} name={node.name} pages={large ? 200 : 1} />
          </Suspense>
        </div>
      );
    default:
      return <NoPreview node={node} large={large} box={box} />;
  }
}

function NoPreview({ node, large, box }: { node: Node; large: boolean; box: string }) {
  return (
    <div className={`flex flex-col items-center justify-center gap-2 text-muted ${large ? "py-16" : box}`}>
      <FileIcon name={node.name} kind="file" size={40} />
      {large && <p>There is no preview for this kind of file. Download it to open it.</p>}
    </div>
  );
}

function Text({ node, at, large, box }: Required<Omit<Props, "at">> & { at?: string; box: string }) {
  const most = large ? whole : glance;
  const text = useQuery({
    queryKey: key("text", node.id, node.moment, at, most),
    queryFn: async () => {
      if (node.size === 0) return "";
      const answer = await fetch(contentAddress(node.id, at), {
        headers: { Range: `bytes=0-${most - 1}` },
      });
      if (!answer.ok) throw await refusalOf(answer);
      return new TextDecoder().decode(await answer.arrayBuffer());
    },
  });
  if (text.isPending) return <div className={box} />;
  if (text.isError) return <Notice error={text.error} />;
  const look = lookOf(node.name);
  if (!large || text.data === "") {
    return (
      <div className={box}>
        <pre className="p-3 font-mono text-[12px] leading-snug break-words whitespace-pre-wrap">
          {text.data === "" ? "(empty)" : text.data.slice(0, 4000)}
        </pre>
      </div>
    );
  }
  return (
    <Suspense fallback={<Loading />}>
      {look === "table" ? (
        <Table text={text.data} name={node.name} />
      ) : look === "markdown" ? (
        <Markdown text={text.data} name={node.name} />
      ) : (
        <div className="flex h-[66vh] flex-col">
          <Code name={node.name} text={text.data} readOnly label={`Text of ${node.name}`} />
        </div>
      )}
      {node.size > most && (
        <p className="mt-2 text-muted">
          The first {size(most)} of {size(node.size)}. Download it to read all.
        </p>
      )}
    </Suspense>
  );
}

/** A file in front of the page; the arrows go to the next of its folder. */
export function Look({
  node,
  beside = [],
  at,
  onGo,
  onClose,
  onDownload,
  onEdit,
}: {
  node?: Node;
  beside?: Node[];
  at?: string;
  onGo?: (node: Node) => void;
  onClose: () => void;
  onDownload: (node: Node) => void;
  onEdit?: (node: Node) => void;
}) {
  const files = beside.filter((n) => n.kind === "file");
  const here = files.findIndex((n) => n.id === node?.id);
  const before = here > 0 ? files[here - 1] : undefined;
  const after = here >= 0 ? files[here + 1] : undefined;
  useEffect(() => {
    if (!node || !onGo) return;
    const onKey = (e: KeyboardEvent) => {
      const within = e.target as HTMLElement;
      // Arrows within a text, a table or a film are theirs.
      if (within.closest("audio, video, .cm-editor, [role=table], input")) return;
      if (e.key === "ArrowLeft" && before) onGo(before);
      if (e.key === "ArrowRight" && after) onGo(after);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [node, before, after, onGo]);
  return (
    <Dialog open={node !== undefined} onClose={onClose} title={node?.name ?? ""} wide>
      {node && (
        <>
          <Preview key={node.id} node={node} at={at} large />
          <DialogActions>
            {onGo && files.length > 1 && (
              <span className="flex flex-1 items-center gap-1 text-[14.5px] text-muted">
                <IconButton label="The one before" disabled={!before} onClick={() => before && onGo(before)}>
                  <ChevronLeft size={20} />
                </IconButton>
                {here + 1} of {files.length.toLocaleString("en")}
                <IconButton label="The next one" disabled={!after} onClick={() => after && onGo(after)}>
                  <ChevronRight size={20} />
                </IconButton>
              </span>
            )}
            {onEdit && editable(node.name, node.size) && (
              <Button icon={<Pencil size={18} />} onClick={() => onEdit(node)}>
                Edit
              </Button>
            )}
            <Button icon={<Download size={18} />} onClick={() => onDownload(node)}>
              Download {at ? "as it was" : ""}
            </Button>
          </DialogActions>
        </>
      )}
    </Dialog>
  );
}
