/** What answers about other things tell of the past too. */

/** Why a past state is kept; `why` is empty if it goes with the next look at the rules. */
export interface Kept {
  why: string;
  until?: string;
}

export interface Going {
  states: number;
  bytes: number;
  sums: { shelf: string; why: string; states: number; bytes: number; oldest: string; newest: string }[];
  largest: { name: string; shelf: string; size: number; ended: string; why: string }[];
  kept: [name: string, why: string][];
  token: string;
  done: boolean;
}

export interface Quota {
  of: string;
  name: string;
  used: number;
  soft?: number;
  hard?: number;
  by_groups: boolean;
  warns: boolean;
}
