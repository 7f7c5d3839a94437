import { useEffect, useState } from "react";
import { Refusal } from "../lib/api";
import { here, type Now } from "./here";

/** All that is so now, as it changes; or why it cannot be told. */
export function useNow(): { now?: Now; broken?: Refusal } {
  const [now, setNow] = useState<Now>();
  const [broken, setBroken] = useState<Refusal>();
  useEffect(() => {
    const events = new EventSource("/here/events");
    events.addEventListener("message", (e: MessageEvent<string>) => {
      setNow(JSON.parse(e.data) as Now);
      setBroken(undefined);
    });
    events.addEventListener("error", () => {
      // Why it broke is asked for: the events themselves do not say.
      here.now().then(
        (told) => setNow(told),
        (error: unknown) => setBroken(Refusal.of(error)),
      );
    });
    return () => events.close();
  }, []);
  return { now, broken };
}
