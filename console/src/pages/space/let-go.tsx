import { useState } from "react";
import { Button } from "../../ui";
import { LettingGo } from "../folder/letting-go";

/** What the rules let go with their next look, looked at and done now. */
export function LetGoByRules() {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button onClick={() => setOpen(true)}>What the rules let go</Button>
      {open && (
        <LettingGo
          what={{ by_rules: true }}
          title="What the rules let go now"
          onClose={() => setOpen(false)}
        />
      )}
    </>
  );
}
