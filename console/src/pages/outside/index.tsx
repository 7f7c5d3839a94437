import type { Me } from "../../lib/api";
import { Frame } from "../../ui";
import { GivenList } from "./given";
import { Intakes } from "./intakes";

/** What one has given out, and what one takes in. */
export default function OutsidePage({
  frame,
  part,
}: {
  frame: { me: Me; onSignOut: () => void };
  part: "given" | "intake";
}) {
  return (
    <Frame {...frame} heading={<h1 className="font-bold">{part === "given" ? "Given out" : "Intake"}</h1>}>
      <div
        className={`mx-auto px-8 pb-10 max-sm:px-4 ${part === "given" ? "max-w-[1180px]" : "max-w-[900px] pt-2"}`}
      >
        {part === "given" ? <GivenList all={false} /> : <Intakes />}
      </div>
    </Frame>
  );
}
