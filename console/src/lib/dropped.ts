/** Files that somebody chose or dropped, with the folders they were in. */

/** A file to send, and the folders on its way below the target. No file: an empty folder. */
export interface Chosen {
  file?: File;
  way: string[];
}

/** What was dropped, with whole folders opened up. */
export async function dropped(data: DataTransfer): Promise<Chosen[]> {
  const entries = [...data.items].map((i) => i.webkitGetAsEntry()).filter((e) => e !== null);
  const found: Chosen[] = [];
  const walk = async (entry: FileSystemEntry, way: string[]): Promise<void> => {
    if (entry.isFile) {
      const file = await new Promise<File>((ok, no) => (entry as FileSystemFileEntry).file(ok, no));
      found.push({ file, way });
      return;
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader();
    const inside = [...way, entry.name];
    let empty = true;
    for (;;) {
      const part = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no));
      if (part.length === 0) break;
      empty = false;
      await Promise.all(part.map((below) => walk(below, inside)));
    }
    if (empty) found.push({ way: inside });
  };
  for (const entry of entries) await walk(entry, []);
  return found;
}
