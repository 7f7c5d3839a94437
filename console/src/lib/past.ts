/** What answers about other things tell of the past too. */

import type { Api } from "./api-shapes";
export type Kept = Api<"Kept">;
export type Going = Api<"Going">;
export type Quota = Api<"Quota">;
