import { useQuery } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { lazy, Suspense } from "react";
import { contentAddress, Refusal, type Node } from "../../lib/api";
import { lookOf } from "../../lib/kinds";
import { size } from "../../lib/show";
import { Button, Dialog, DialogActions, FileIcon, Loading, Notice } from "../../ui";

const Pdf = lazy(() => import("./pdf"));

/** As much of a text as a preview shows. */
const textBytes = 256 * 1024;

interface Props {
  node: Node;
  at?: string;
  large?: boolean;
}

/** A file, looked at without downloading it. */
export function Preview({ node, at, large = false }: Props) {
  const look = lookOf(node.name);
  const box = large ? "" : "h-[142px] overflow-hidden rounded-lg border border-line bg-sheet";
  if (node.kind === "folder" || node.held === false) return null;
  switch (look) {
    case "image":
      return (
        <div className={`flex items-center justify-center ${large ? "min-h-0 flex-1" : box}`}>
          <img
            src={contentAddress(node.id, at)}
            alt={node.name}
            className={large ? "max-h-[70vh] max-w-full object-contain" : "size-full object-cover"}
          />
        </div>
      );
    case "text":
    case "table":
      return <Text node={node} at={at} large={large} box={box} />;
    case "pdf":
      return (
        <div
          className={large ? "max-h-[70vh] overflow-y-auto" : box}
          {...(large ? { tabIndex: 0, role: "region", "aria-label": `Pages of ${node.name}` } : {})}
        >
          <Suspense fallback={<Loading rows={2} />}>
            <Pdf address={contentAddress(node.id, at)} name={node.name} pages={large ? 200 : 1} />
          </Suspense>
        </div>
      );
    default:
      return (
        <div
          className={`flex flex-col items-center justify-center gap-2 text-muted ${large ? "py-16" : box}`}
        >
          <FileIcon name={node.name} kind="file" size={40} />
          {large && <p>There is no preview for this kind of file. Download it to open it.</p>}
        </div>
      );
  }
}

function Text({ node, at, large, box }: Required<Omit<Props, "at">> & { at?: string; box: string }) {
  const text = useQuery({
    queryKey: ["text", node.id, node.moment, at],
    queryFn: async () => {
      if (node.size === 0) return "";
      const answer = await fetch(contentAddress(node.id, at), {
        headers: { Range: `bytes=0-${textBytes - 1}` },
      });
      if (!answer.ok) throw Refusal.from((await answer.json().catch(() => ({}))) as object, answer.status);
      return new TextDecoder().decode(await answer.arrayBuffer());
    },
  });
  if (text.isPending) return <div className={box} />;
  if (text.isError) return <Notice error={text.error} />;
  return (
    <div className={large ? "min-h-0 overflow-auto" : box}>
      <pre
        tabIndex={large ? 0 : undefined}
        className={`font-mono break-words whitespace-pre-wrap ${large ? "max-h-[70vh] overflow-y-auto p-2 text-[14px]" : "p-3 text-[12px] leading-snug"}`}
      >
        {text.data === "" ? "(empty)" : text.data}
      </pre>
      {large && node.size > textBytes && (
        <p className="mt-2 text-muted">
          The first {size(textBytes)} of {size(node.size)}. Download it to read all.
        </p>
      )}
    </div>
  );
}

/** A file in front of the page. */
export function Look({
  node,
  at,
  onClose,
  onDownload,
}: {
  node?: Node;
  at?: string;
  onClose: () => void;
  onDownload: (node: Node) => void;
}) {
  return (
    <Dialog open={node !== undefined} onClose={onClose} title={node?.name ?? ""} wide>
      {node && (
        <>
          <Preview node={node} at={at} large />
          <DialogActions>
            <Button icon={<Download size={18} />} onClick={() => onDownload(node)}>
              Download {at ? "as it was" : ""}
            </Button>
          </DialogActions>
        </>
      )}
    </Dialog>
  );
}
