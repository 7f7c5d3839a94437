import { Archive, File, FileText, Film, Folder, Image, Music, Table2, type LucideIcon } from "lucide-react";
import type { Kind } from "../lib/api";
import { lookOf, type Look } from "../lib/kinds";

const icons: Record<Look, LucideIcon> = {
  image: Image,
  text: FileText,
  markdown: FileText,
  pdf: FileText,
  sound: Music,
  film: Film,
  table: Table2,
  archive: Archive,
  other: File,
};

/** The icon of a file or folder. */
export function FileIcon({ name, kind, size = 20 }: { name: string; kind: Kind; size?: number }) {
  const Icon = kind === "folder" ? Folder : icons[lookOf(name)];
  return <Icon size={size} strokeWidth={1.6} aria-hidden />;
}
