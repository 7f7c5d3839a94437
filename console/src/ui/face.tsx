import { useState } from "react";
import { thumbnailAddress, type Node } from "../lib/api";
import { lookOf } from "../lib/kinds";
import { FileIcon } from "./file-icon";

/** A small picture of a file, or its icon. */
export function Face({ node, size = 20, className }: { node: Node; size?: number; className: string }) {
  const [none, setNone] = useState<string>();
  const picture = node.kind === "file" && lookOf(node.name) === "image" && none !== node.etag;
  if (!picture) return <FileIcon name={node.name} kind={node.kind} size={size} />;
  return (
    <img
      src={thumbnailAddress(node)}
      alt=""
      loading="lazy"
      decoding="async"
      draggable={false}
      onError={() => setNone(node.etag)}
      className={`object-cover ${className}`}
    />
  );
}
