/** Shapes of the API, as its description has them. */

import type { components } from "./api-types";

type Schemas = components["schemas"];

/** In answers nothing is null: what is not there is left out. */
type Told<T> = T extends (infer One)[]
  ? Told<One>[]
  : T extends object
    ? { [K in keyof T]: Told<Exclude<T[K], null>> }
    : T;

/** An object of the API by the name that its description gives it. */
export type Api<Name extends keyof Schemas> = Told<Schemas[Name]>;
