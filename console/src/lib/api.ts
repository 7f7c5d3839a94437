/** The API as the console uses it: types as they come, and refusals as errors with a remedy. */

import type { Api } from "./api-shapes";
import { unattended } from "./present";

export type Kind = "folder" | "file";
export type SinceThen = "same" | "different" | "moved" | "removed" | "inside";

export type Sums = Api<"Sums">;
export type Node = Api<"Node">;
export type HeldLock = Api<"Lock">;

export type Level = "view" | "add" | "edit" | "manage";
export type Gives = Level | "deny";

export type Grant = Api<"Grant">;
export type Reach = Api<"Reach">;
export type Why = Api<"Why">;
export type Person = Api<"Person">;
export type GivenPlace = Api<"GivenPlace">;
export type Account = Api<"Account">;

/** Which accounts are wanted. */
export interface AccountsFilter {
  words?: string;
  role?: Role;
  state?: "active" | "disabled" | "waiting" | "invited" | "leaving";
  limit?: number;
  cursor?: string;
}

/** All that is known of one account. */
export interface AccountFacts {
  account: Account;
  made: string;
  reaches: { node: number; name: string; path?: string; folder: boolean; level: Level; why: string[] }[];
  devices: Device[];
  sessions: Session[];
  factors: Factor[];
  recovery_left: number;
  invitation?: { made: string; expires: string; by?: string };
  uploads: Upload[];
  given: number;
  record: RecordLine[];
}

export type RecordLine = Api<"RecordLine">;
export type Role = "administrator" | "member" | "guest";

export type Factor = Api<"Factor">;
export type Factors = Api<"Factors">;
export type Own = Api<"Own">;
export type Rule = Api<"Rule">;
export type RuleEffects = Api<"RuleEffects">;
export type Letter = Api<"Letter">;
export type Mail = Api<"Mail">;
export type ListedPeople = Api<"ListedPeople">;
export type Goes = Api<"Goes">;
export type SharedShelf = Api<"SharedShelf">;
export type GuestInvited = Api<"GuestInvited">;
export type Invited = Api<"Invited">;
export type Session = Api<"Session">;
export type Group = Api<"Group">;
export type Facts = Api<"Facts">;
export type Entries = Api<"Entries">;
export type State = Api<"State">;
export type Activity = Api<"Activity">;
export type Shelf = Api<"Shelf">;
export type Shelves = Api<"Shelves">;
export type Me = Api<"Me">;
export type Welcome = Api<"Welcome">;
export type Upload = Api<"Upload">;
export type Device = Api<"Device">;
export type DevicePair = Api<"DevicePair">;
export type AskedConnection = Api<"AskedConnection">;
export type ClientProgram = Api<"ClientProgram">;
export type Found = Api<"Found">;
export type Change = Api<"Change">;
interface Problem {
  title: string;
  detail: string;
  code: string;
  remedy: string;
  status: number;
  ticket?: string;
  factors?: string[];
}

/** A refusal of the service, or a broken line. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly code: string,
    readonly remedy: string,
    readonly status: number,
    /** To go on with, when a second factor is needed. */
    readonly ticket?: string,
    readonly factors: string[] = [],
  ) {
    super(message);
  }

  static from(problem: Partial<Problem>, status: number): Refusal {
    return new Refusal(
      problem.detail ?? `The service answered with status ${status}.`,
      problem.code ?? "unknown",
      problem.remedy ?? "Try again; the reason is in the service's log.",
      status,
      problem.ticket,
      problem.factors,
    );
  }

  /** Anything that went wrong, as a refusal. */
  static of(error: unknown): Refusal {
    return error instanceof Refusal ? error : new Refusal(sayingOf(error), "unknown", "", 0);
  }

  static line(): Refusal {
    return new Refusal(
      "The service cannot be reached.",
      "line",
      "See that this computer is online; the page goes on by itself.",
      0,
    );
  }
}

/** What an error says, with what helps. */
export function sayingOf(error: unknown): string {
  if (error instanceof Refusal) return `${error.message} ${error.remedy}`;
  return error instanceof Error ? error.message : "It failed for an unknown reason.";
}

const base = "/api/v1";

export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  return send<T>(method, path, body === undefined ? undefined : JSON.stringify(body), "application/json");
}

/** Sends a body as it is. */
async function send<T>(
  method: string,
  path: string,
  body: Blob | string | undefined,
  type?: string,
): Promise<T> {
  let answer: Response;
  try {
    const headers = {
      ...unattended(),
      ...(body !== undefined && type ? { "Content-Type": type } : {}),
    };
    answer = await fetch(base + path, { method, headers, body });
  } catch {
    throw Refusal.line();
  }
  if (!answer.ok) {
    throw Refusal.from((await answer.json().catch(() => ({}))) as Partial<Problem>, answer.status);
  }
  return (answer.status === 204 ? undefined : await answer.json()) as T;
}

export function query(values: Record<string, string | number | undefined>): string {
  const given = Object.entries(values).filter(([, v]) => v !== undefined);
  return given.length === 0 ? "" : "?" + given.map(([k, v]) => `${k}=${encodeURIComponent(v!)}`).join("&");
}

/** What is wanted once more. */
export type Proving = "password" | "factor";

let asker: ((wanted: Proving) => Promise<boolean>) | undefined;

/** Who asks for the password once more, when the service wants it. */
export function onProofNeeded(ask: (wanted: Proving) => Promise<boolean>) {
  asker = ask;
}

/** Does what decides over people or rights: if the password is wanted once more, it is asked for. */
export async function proved<T>(act: () => Promise<T>): Promise<T> {
  try {
    return await act();
  } catch (e) {
    const wanted =
      e instanceof Refusal ? { proof_needed: "password", factor_needed: "factor" }[e.code] : undefined;
    if (!wanted || !asker || !(await asker(wanted as Proving))) throw e;
    return await act();
  }
}

export type Slowed = Api<"Slowed">;
export type AllSlowed = Api<"AllSlowed">;
export interface Sorting {
  sort: "name" | "size" | "changed";
  order: "up" | "down";
}

export const api = {
  welcome: () => call<Welcome>("GET", "/welcome"),
  setUp: (body: { code: string; sign_in: string; display_name: string; password: string }) =>
    call<Me>("POST", "/set-up", body),
  signIn: (body: { sign_in: string; password: string }) => call<Me>("POST", "/session", body),
  signOut: () => call<void>("DELETE", "/session"),
  shelves: () => call<Shelves>("GET", "/shelves"),
  secondStep: (body: { ticket: string; code?: string; passkey?: unknown }) =>
    call<Me>("POST", "/session/second", body),
  askPasskey: (ticket: string) => call<{ options: unknown }>("POST", "/session/passkey", { ticket }),
  signUp: (body: { sign_in: string; display_name: string; mail: string }) =>
    call<void>("POST", "/sign-up", body),
  own: () => call<Own>("GET", "/me"),
  changeOwn: (body: { display_name?: string; muted?: string[] }) => call<void>("PATCH", "/me", body),
  setPicture: (file: Blob) => send<void>("PUT", "/me/picture", file),
  endPicture: () => call<void>("DELETE", "/me/picture"),
  factors: () => call<Factors>("GET", "/me/factors"),
  beginCodes: () =>
    proved(() =>
      call<{ ticket: string; secret: string; address: string; picture: string }>("POST", "/me/factors/codes"),
    ),
  confirmCodes: (body: { ticket: string; code: string; name: string }) =>
    call<{ codes: string[] }>("POST", "/me/factors/codes/confirm", body),
  beginPasskey: () => proved(() => call<{ ticket: string; options: unknown }>("POST", "/me/factors/passkey")),
  confirmPasskey: (body: { ticket: string; credential: unknown; name: string }) =>
    call<{ codes: string[] }>("POST", "/me/factors/passkey/confirm", body),
  endFactor: (id: number) => proved(() => call<void>("DELETE", `/me/factors/${id}`)),
  renewRecovery: () => proved(() => call<{ codes: string[] }>("POST", "/me/recovery")),
  endFactors: (name: string) =>
    proved(() => call<void>("DELETE", `/accounts/${encodeURIComponent(name)}/factors`)),
  beginLook: (account: string) => proved(() => call<{ ends: string }>("POST", "/look", { account })),
  endLook: () => call<void>("DELETE", "/look"),
  rules: () => call<{ rules: Rule[] }>("GET", "/rules"),
  setRule: (
    name: string,
    body: { scope: string; value?: string; preview: boolean; breaking?: "leave" | "shorten" | "end" },
  ) =>
    body.preview
      ? call<RuleEffects>("PUT", `/rules/${name}`, body)
      : proved(() => call<RuleEffects>("PUT", `/rules/${name}`, body)),
  mail: () => call<Mail>("GET", "/mail"),
  testMail: (to: string) =>
    call<{ taken: boolean; said: string; remedy: string }>("POST", "/mail/test", { to }),
  changeLetter: (id: number, again: boolean) => call<void>("POST", `/mail/${id}`, { again }),
  listPeople: (
    list: Blob,
    options: { preview: boolean; change: boolean; invite: boolean; columns: Record<string, string> },
  ) => {
    const { columns, ...rest } = options;
    const words: Record<string, string> = {};
    for (const [key, on] of Object.entries(rest)) if (on) words[key] = "true";
    if (Object.keys(columns).length > 0) words.columns = JSON.stringify(columns);
    return proved(() => send<ListedPeople>("POST", `/accounts/list${query(words)}`, list));
  },
  removal: (name: string) => call<Goes>("GET", `/accounts/${encodeURIComponent(name)}/removal`),
  decideRemoval: (name: string, body: { name: string; days: number; heir?: string }) =>
    proved(() => call<Goes>("PUT", `/accounts/${encodeURIComponent(name)}/removal`, body)),
  undoRemoval: (name: string) =>
    proved(() => call<void>("DELETE", `/accounts/${encodeURIComponent(name)}/removal`)),
  inviteGuest: (body: { mail: string; node: number; can: string; until?: string; message?: string }) =>
    proved(() => call<GuestInvited>("POST", "/guests", body)),
  sharedShelves: () => call<{ shelves: SharedShelf[] }>("GET", "/desk/shelves"),
  changeShelf: (root: number, body: { note?: string; quota?: string; owners?: string[] }) =>
    proved(() => call<SharedShelf>("PATCH", `/shelves/${root}`, body)),
  raise: (node: number, name: string) =>
    proved(() => call<SharedShelf>("POST", `/nodes/${node}/raise`, { name })),
  lower: (root: number, parent: number, name: string) =>
    proved(() => call<Node>("POST", `/shelves/${root}/lower`, { parent, name })),
  makeShelf: (name: string, everyone: boolean) =>
    proved(() =>
      call<Shelf>("POST", "/shelves", { name, people: everyone ? [{ to: "everyone", level: "edit" }] : [] }),
    ),
  place: (path: string, at?: string) => call<Facts>("GET", `/place${query({ path, at })}`),
  facts: (node: number) => call<Facts>("GET", `/nodes/${node}`),
  entries: (node: number, sorting: Sorting, at?: string, cursor?: string) =>
    call<Entries>(
      "GET",
      `/nodes/${node}/entries${query({ limit: 1000, cursor, at, ...(at ? {} : { sort: sorting.sort, order: sorting.order }) })}`,
    ),
  makeFolder: (parent: number, name: string) => call<Node>("POST", `/nodes/${parent}/folders`, { name }),
  change: (node: number, target: { parent?: number; name?: string }) =>
    call<Node>("PATCH", `/nodes/${node}`, target),
  copy: (node: number, target: { parent?: number; name?: string }) =>
    call<Node>("POST", `/nodes/${node}/copy`, target),
  remove: (node: number) => call<void>("DELETE", `/nodes/${node}`),
  lock: (node: number, minutes: number) => call<HeldLock>("PUT", `/nodes/${node}/lock`, { minutes }),
  unlock: (node: number) => call<void>("DELETE", `/nodes/${node}/lock`),
  restore: (
    node: number,
    body: { at?: string; parent?: number; name?: string; with_folders?: boolean; seen?: string },
  ) => call<Node>("POST", `/nodes/${node}/restore`, body),
  history: (node: number) => call<{ states: State[] }>("GET", `/nodes/${node}/history`),
  activity: (node: number) => call<Activity>("GET", `/nodes/${node}/activity`),
  uploads: () => call<{ uploads: Upload[] }>("GET", "/uploads"),
  endUpload: async (id: string) => {
    const answer = await fetch(`${uploadsAddress}/${id}`, {
      method: "DELETE",
      headers: { "Tus-Resumable": "1.0.0" },
    }).catch(() => {
      throw Refusal.line();
    });
    if (!answer.ok) {
      throw Refusal.from((await answer.json().catch(() => ({}))) as Partial<Problem>, answer.status);
    }
  },
  find: (name: string, within?: number, at?: string) =>
    call<Found>("GET", `/find${query({ name, within, at, limit: 100 })}`),
  recent: () => call<Found>("GET", "/recent"),
  gather: (nodes: number[], at?: string) =>
    call<{ address: string; name: string; bytes: number; files: number; left_out: string[] }>(
      "POST",
      "/archives",
      { nodes, format: "zip", at },
    ),
  people: () => call<{ people: Person[] }>("GET", "/people"),
  prove: (body: { password: string; code?: string; ticket?: string; passkey?: unknown }) =>
    call<void>("POST", "/proof", body),
  askProof: () => call<{ ticket: string; options: unknown }>("POST", "/proof/passkey"),
  slowed: () => call<AllSlowed>("GET", "/slowed"),
  release: (of: string) => proved(() => call<{ released: number }>("DELETE", `/slowed${query({ of })}`)),
  reach: (node: number) => call<Reach>("GET", `/nodes/${node}/rights`),
  give: (node: number, grant: { to: string; can: Gives; until?: string; message?: string }) =>
    proved(() => call<Grant>("POST", `/nodes/${node}/rights`, grant)),
  endGrant: (id: number) => proved(() => call<void>("DELETE", `/rights/${id}`)),
  setAfresh: (node: number, afresh: boolean) =>
    proved(() => call<void>("PUT", `/nodes/${node}/afresh`, { afresh })),
  who: (node: number) => call<{ people: Why[] }>("GET", `/nodes/${node}/who`),
  why: (node: number, account?: string) => call<Why>("GET", `/nodes/${node}/why${query({ account })}`),
  accounts: (of: AccountsFilter = {}) =>
    call<{ accounts: Account[]; total: number; next?: string }>("GET", `/accounts${query({ ...of })}`),
  account: (name: string) => call<AccountFacts>("GET", `/accounts/${encodeURIComponent(name)}`),
  endSessionOf: (name: string, id: string) =>
    proved(() => call<void>("DELETE", `/accounts/${encodeURIComponent(name)}/sessions/${id}`)),
  endDeviceOf: (name: string, id: number) =>
    proved(() => call<void>("DELETE", `/accounts/${encodeURIComponent(name)}/devices/${id}`)),
  endInvitation: (name: string) =>
    proved(() => call<void>("DELETE", `/accounts/${encodeURIComponent(name)}/invitation`)),
  makeAccount: (body: {
    sign_in: string;
    display_name: string;
    mail?: string;
    role: string;
    password?: string;
    groups: string[];
    quota?: string;
  }) => proved(() => call<Account>("POST", "/accounts", body)),
  changeAccount: (
    name: string,
    body: Partial<{
      display_name: string;
      mail: string;
      role: string;
      password: string;
      disabled: boolean;
      quota: string;
      closed: string[];
      groups: string[];
    }>,
  ) => proved(() => call<Account>("PATCH", `/accounts/${encodeURIComponent(name)}`, body)),
  invite: (name: string) =>
    proved(() =>
      call<{ address: string; expires: string; mailed: boolean }>(
        "POST",
        `/accounts/${encodeURIComponent(name)}/invitation`,
      ),
    ),
  lookAtInvitation: (secret: string) => call<Invited>("POST", "/invitation/look", { secret }),
  acceptInvitation: (secret: string, password: string) =>
    call<Me>("POST", "/invitation/accept", { secret, password }),
  changePassword: (present: string, next: string) =>
    call<void>("PUT", "/me/password", { present, new: next }),
  sessions: () => call<{ sessions: Session[] }>("GET", "/sessions"),
  endSession: (id: string) => call<void>("DELETE", `/sessions/${id}`),
  groups: (of: { words?: string; limit?: number; cursor?: string } = {}) =>
    call<{ groups: Group[]; total: number; next?: string }>("GET", `/groups${query({ ...of })}`),
  group: (name: string) => call<Group>("GET", `/groups/${encodeURIComponent(name)}`),
  makeGroup: (body: { name: string; note: string; members: string[] }) =>
    proved(() => call<Group>("POST", "/groups", body)),
  changeGroup: (
    name: string,
    body: Partial<{ name: string; note: string; quota: string; add: string[]; remove: string[] }>,
  ) => proved(() => call<Group>("PATCH", `/groups/${encodeURIComponent(name)}`, body)),
  endGroup: (name: string) => proved(() => call<void>("DELETE", `/groups/${encodeURIComponent(name)}`)),
  devices: () => call<{ devices: Device[] }>("GET", "/devices"),
  client: () => call<ClientProgram>("GET", "/client"),
  lookAtConnection: (code: string) => call<AskedConnection>("POST", "/connections/look", { code }),
  answerConnection: (body: {
    code: string;
    connect: boolean;
    device?: string;
    within?: number[];
    read_only?: boolean;
  }) => {
    const ask = () => call<void>("POST", "/connections/answer", body);
    return body.connect ? proved(ask) : ask();
  },
  endDevice: (id: number) => call<void>("DELETE", `/devices/${id}`),
};

/** The address of somebody's picture, as it was set then. */
export function pictureAddress(signIn: string, set: string): string {
  return `${base}/people/${encodeURIComponent(signIn)}/picture${query({ of: set })}`;
}

/** The address of a file's bytes. */
export function contentAddress(node: number, at?: string, download = false): string {
  return `${base}/nodes/${node}/content${query({ at, download: download ? 1 : undefined })}`;
}

/** The address of a picture's small picture. It names the state, so it can be kept. */
export function thumbnailAddress(node: Node): string {
  return `${base}/nodes/${node.id}/thumbnail${query({ of: node.etag, at: undefined })}`;
}

/** Where resumable uploads begin. */
export const uploadsAddress = `${base}/uploads`;

/** Reads a text file as a whole, with the tag of its state. */
export async function readText(node: number, at?: string): Promise<{ text: string; etag: string }> {
  const answer = await fetch(contentAddress(node, at)).catch(() => {
    throw Refusal.line();
  });
  if (!answer.ok) throw await refusalOf(answer);
  return { text: await answer.text(), etag: answer.headers.get("etag") ?? "" };
}

/** Saves a text as a new state, only onto the state that was read. */
export async function saveText(parent: number, name: string, text: string, etag: string): Promise<Node> {
  const answer = await fetch(`${base}/nodes/${parent}/files/${encodeURIComponent(name)}`, {
    method: "PUT",
    headers: { "If-Match": etag },
    body: text,
  }).catch(() => {
    throw Refusal.line();
  });
  if (!answer.ok) throw await refusalOf(answer);
  return (await answer.json()) as Node;
}

export async function refusalOf(answer: Response): Promise<Refusal> {
  return Refusal.from((await answer.json().catch(() => ({}))) as Partial<Problem>, answer.status);
}

export function refusalIn(text: string, status: number): Refusal {
  try {
    return Refusal.from(JSON.parse(text) as Partial<Problem>, status);
  } catch {
    return Refusal.from({}, status);
  }
}

/** Sends a small file in one piece. Resolves when it is safe on the disk. */
export function sendFile(
  parent: number,
  name: string,
  file: File,
  replace: boolean,
  signal: AbortSignal,
  onBytes: (sent: number) => void,
): Promise<void> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    const modified = new Date(file.lastModified).toISOString();
    request.open("PUT", `${base}/nodes/${parent}/files/${encodeURIComponent(name)}${query({ modified })}`);
    if (!replace) request.setRequestHeader("If-None-Match", "*");
    request.upload.addEventListener("progress", (e) => onBytes(e.loaded));
    request.addEventListener("load", () => {
      if (request.status >= 200 && request.status < 300) resolve();
      else reject(refusalIn(request.responseText, request.status));
    });
    request.addEventListener("error", () => reject(Refusal.line()));
    request.addEventListener("abort", () => reject(new Refusal("Stopped.", "stopped", "", 0)));
    signal.addEventListener("abort", () => request.abort());
    request.send(file);
  });
}
