/** The keys under which answers of the service are kept: what they are of, and of which. A name that is not here is a mistake. */
export interface Keys {
  account: [signIn: string];
  accounts: [wanted?: unknown];
  activity: [folder?: number];
  alarms: [];
  choosing: [of: string, sought: string];
  clock: [];
  comparison: [node: number, before: string, after: string];
  deliveries: [intake: number];
  client: [];
  devices: [];
  edit: [node: number];
  entries: [folder?: number, at?: string, sort?: string, order?: string];
  factors: [];
  "folder space": [node?: number];
  folders: [folder?: number, changed?: string];
  found: [wanted?: unknown, folder?: number, at?: string];
  given: [wanted?: unknown];
  group: [name: string];
  groups: [words?: string];
  history: [node?: number, moment?: string];
  invitation: [secret: string];
  "letting go": [what: unknown];
  local: [path?: string];
  mail: [];
  "new codes": [];
  openings: [of?: number | "intake"];
  own: [];
  jobs: [];
  people: [];
  place: [path?: string, at?: string];
  "public-address": [];
  quotas: [];
  reach: [node?: number];
  recent: [];
  remote: [service: string, path?: string];
  removal: [signIn: string];
  rollback: [id: number];
  "rollback preview": [folder?: number, to?: string, kept?: string];
  "rule preview": [rule: string, scope: string, value: unknown];
  rules: [];
  sessions: [];
  side: [pair: string, path: string, modified: string];
  "shared shelves": [];
  shelves: [];
  slowed: [];
  snapshots: [root?: number];
  space: [];
  store: [];
  text: [node: number, moment: string, at: string | undefined, most: number];
  trash: [folder?: number];
  uploads: [];
  welcome: [];
  who: [node?: number];
  why: [node: number];
}

/** A key: of all that are called so, or of one. */
export function key<Name extends keyof Keys>(name: Name, ...of: Keys[Name]): readonly [Name, ...Keys[Name]] {
  return [name, ...of];
}
