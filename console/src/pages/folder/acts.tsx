import {
  Copy,
  Download,
  Eye,
  FileArchive,
  FilePen,
  FolderInput,
  FolderOpen,
  Link2,
  LinkIcon,
  Pencil,
  Trash2,
  Undo2,
  Users,
} from "lucide-react";
import type { Node } from "../../lib/api";
import { editable } from "../../lib/kinds";
import type { Act } from "../../ui";

/** What the page does with things; what is not there is not allowed, or makes no sense then. */
export interface Doing {
  open: (node: Node) => void;
  look: (node: Node) => void;
  edit?: (node: Node) => void;
  download: (nodes: Node[]) => void;
  rename?: (node: Node) => void;
  move?: (nodes: Node[]) => void;
  copy?: (nodes: Node[]) => void;
  remove?: (nodes: Node[]) => void;
  bringBack?: (nodes: Node[]) => void;
  rights?: (node: Node) => void;
  link?: (node: Node) => void;
  outside?: (node: Node) => void;
}

const size = 18;

/** All that can be done with some things: the same in the menu of a row and beside its facts. */
export function actsOf(nodes: Node[], doing: Doing): Act[] {
  const only = nodes.length === 1 ? nodes[0]! : undefined;
  const file = only?.kind === "file" ? only : undefined;
  const acts: (Act | false | undefined)[] = [
    only?.kind === "folder" && {
      key: "open",
      label: "Open",
      icon: <FolderOpen size={size} />,
      hint: "Enter",
      run: () => doing.open(only),
    },
    file && {
      key: "look",
      label: "Look",
      icon: <Eye size={size} />,
      hint: "Enter",
      run: () => doing.look(file),
    },
    file &&
      doing.edit &&
      editable(file.name, file.size) && {
        key: "edit",
        label: "Edit",
        icon: <FilePen size={size} />,
        run: () => doing.edit!(file),
      },
    {
      key: "download",
      label: file ? "Download" : "Download as ZIP",
      icon: file ? <Download size={size} /> : <FileArchive size={size} />,
      run: () => doing.download(nodes),
    },
    doing.bringBack && {
      key: "bring",
      label: only ? "Bring back this state" : "Bring back the selection",
      icon: <Undo2 size={size} />,
      apart: true,
      run: () => doing.bringBack!(nodes),
    },
    only &&
      doing.link && {
        key: "link",
        label: "Make a link and copy it",
        icon: <LinkIcon size={size} />,
        apart: true,
        run: () => doing.link!(only),
      },
    only &&
      doing.outside && {
        key: "outside",
        label: "Links and intakes",
        icon: <Link2 size={size} />,
        run: () => doing.outside!(only),
      },
    only &&
      doing.rights && {
        key: "rights",
        label: "Who may do what",
        icon: <Users size={size} />,
        run: () => doing.rights!(only),
      },
    only &&
      doing.rename && {
        key: "rename",
        label: "Rename",
        icon: <Pencil size={size} />,
        hint: "F2",
        apart: true,
        run: () => doing.rename!(only),
      },
    doing.move && {
      key: "move",
      label: "Move",
      icon: <FolderInput size={size} />,
      run: () => doing.move!(nodes),
    },
    doing.copy && {
      key: "copy",
      label: "Copy",
      icon: <Copy size={size} />,
      run: () => doing.copy!(nodes),
    },
    doing.remove && {
      key: "remove",
      label: "Remove",
      icon: <Trash2 size={size} />,
      hint: "Del",
      loss: true,
      apart: true,
      run: () => doing.remove!(nodes),
    },
  ];
  return acts.filter((act) => act !== undefined && act !== false);
}
