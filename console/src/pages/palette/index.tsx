import { plain } from "../../lib/show";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import {
  Clock,
  Lamp,
  Library,
  LogOut,
  MonitorSmartphone,
  Moon,
  Search,
  Sun,
  type LucideIcon,
} from "lucide-react";
import { Dialog as Radix } from "radix-ui";
import { useDeferredValue, useState, type ReactNode } from "react";
import { useLocation } from "wouter";
import { api } from "../../lib/api";
import { pageOf } from "../../lib/place";
import { FileIcon } from "../../ui";
import { useTheme } from "../../ui/theme";
import { folderOf } from "../found-list";
import { key } from "../../lib/query-keys";

const line = "flex cursor-pointer items-center gap-3 rounded-md px-3 py-2 data-[selected=true]:bg-gold-wash";

/** Find anything by its name, go anywhere, do anything: from the keyboard. */
export default function Palette({
  administrator,
  onClose,
  onSignOut,
}: {
  administrator: boolean;
  onClose: () => void;
  onSignOut: () => void;
}) {
  const [text, setText] = useState("");
  const wanted = useDeferredValue(text.trim());
  const [, go] = useLocation();
  const { theme, toggle } = useTheme();
  const shelves = useQuery({ queryKey: key("shelves"), queryFn: api.shelves });
  const found = useQuery({
    queryKey: key("found", wanted),
    queryFn: () => api.find(wanted),
    enabled: wanted.length > 0,
    placeholderData: keepPreviousData,
  });
  const act = (run: () => void) => () => {
    onClose();
    run();
  };
  const matches = (word: string) => word.toLowerCase().includes(wanted.toLowerCase());
  const acts: { word: string; icon: LucideIcon; run: () => void }[] = [
    { word: "Shelves", icon: Library, run: () => go("/") },
    { word: "Changed lately", icon: Clock, run: () => go("/recent") },
    { word: "Devices", icon: MonitorSmartphone, run: () => go("/devices") },
    { word: "Connect a computer", icon: MonitorSmartphone, run: () => go("/connect") },
    ...(administrator
      ? [
          { word: "Desk: people", icon: Lamp, run: () => go("/desk/people") },
          { word: "Desk: groups", icon: Lamp, run: () => go("/desk/groups") },
        ]
      : []),
    {
      word: theme === "dark" ? "Light colours" : "Dark colours",
      icon: theme === "dark" ? Sun : Moon,
      run: toggle,
    },
    { word: "Sign out", icon: LogOut, run: onSignOut },
  ];
  const there = (shelves.data?.shelves ?? []).filter((s) => matches(s.title));
  const files = wanted ? (found.data?.found ?? []).slice(0, 30) : [];
  const shownActs = acts.filter((a) => matches(a.word));
  // What enter does is always in sight: the first, until one goes elsewhere.
  const [chosen, setChosen] = useState("");
  const values = [
    ...files.map((f) => `node ${f.node.id}`),
    ...there.map((s) => `shelf ${s.id}`),
    ...shownActs.map((a) => a.word.toLowerCase()),
  ];
  const value = values.includes(chosen) ? chosen : (values[0] ?? "");
  return (
    <Radix.Root open onOpenChange={(o) => !o && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-shade" />
        <Radix.Content
          aria-describedby={undefined}
          className="fixed top-[12vh] left-1/2 z-50 w-[calc(100vw-2rem)] max-w-xl -translate-x-1/2 rounded-xl border border-line bg-sheet shadow-xl"
        >
          <Radix.Title className="sr-only">Find or do</Radix.Title>
          <Command shouldFilter={false} label="Find or do" value={value} onValueChange={setChosen}>
            <div className="flex items-center gap-3 border-b border-line px-4">
              <Search size={20} aria-hidden className="text-muted" />
              <Command.Input
                value={text}
                onValueChange={(typed) => {
                  setText(typed);
                  setChosen("");
                }}
                autoFocus
                placeholder="A name, a shelf, or what to do"
                className="min-h-12 w-full bg-transparent outline-none"
              />
            </div>
            <Command.List className="max-h-[55vh] overflow-y-auto p-1.5" label="Results">
              {wanted !== "" && !found.isFetching && there.length + files.length + shownActs.length === 0 && (
                <p className="px-3 py-6 text-center text-muted">
                  Nothing has such a name. What was removed is found on its folder's strip.
                </p>
              )}
              {files.length > 0 && (
                <Group heading="Files and folders">
                  {files.map(({ node, path }) => (
                    <Command.Item
                      key={node.id}
                      value={`node ${node.id}`}
                      className={line}
                      onSelect={act(() =>
                        go(
                          node.kind === "folder"
                            ? pageOf(path)
                            : `${pageOf(folderOf(path))}?thing=${node.id}`,
                        ),
                      )}
                    >
                      <FileIcon name={node.name} kind={node.kind} />
                      <span className="min-w-0 flex-1 truncate">{plain(node.name)}</span>
                      <span className="max-w-[45%] truncate text-[14px] text-muted">{folderOf(path)}</span>
                    </Command.Item>
                  ))}
                </Group>
              )}
              {there.length > 0 && (
                <Group heading="Shelves">
                  {there.map((s) => (
                    <Command.Item
                      key={s.id}
                      value={`shelf ${s.id}`}
                      className={line}
                      onSelect={act(() => go(pageOf(`${s.name}:/`)))}
                    >
                      <Library size={20} strokeWidth={1.6} aria-hidden />
                      {s.title}
                    </Command.Item>
                  ))}
                </Group>
              )}
              {shownActs.length > 0 && (
                <Group heading="Go and do">
                  {shownActs.map(({ word, icon: Icon, run }) => (
                    <Command.Item key={word} value={word.toLowerCase()} className={line} onSelect={act(run)}>
                      <Icon size={20} strokeWidth={1.6} aria-hidden />
                      {word}
                    </Command.Item>
                  ))}
                </Group>
              )}
            </Command.List>
          </Command>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

function Group({ heading, children }: { heading: string; children: ReactNode }) {
  return (
    <Command.Group
      heading={heading}
      className="[&>[cmdk-group-heading]]:px-3 [&>[cmdk-group-heading]]:pt-2 [&>[cmdk-group-heading]]:pb-1 [&>[cmdk-group-heading]]:text-[13px] [&>[cmdk-group-heading]]:text-muted"
    >
      {children}
    </Command.Group>
  );
}
