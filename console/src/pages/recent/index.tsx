import { useQuery } from "@tanstack/react-query";
import { api, type Me } from "../../lib/api";
import { Empty, Frame, Loading, Notice } from "../../ui";
import { FoundList } from "../found-list";
import { key } from "../../lib/query-keys";

/** The files changed last, wherever they are. */
export default function RecentPage({ frame }: { frame: { me: Me; onSignOut: () => void } }) {
  const recent = useQuery({ queryKey: key("recent"), queryFn: api.recent });
  return (
    <Frame {...frame} heading={<h1 className="font-bold">Changed lately</h1>}>
      <div className="px-8 pb-10 max-sm:px-3">
        {recent.isPending && <Loading />}
        {recent.isError && <Notice error={recent.error} retry={() => void recent.refetch()} />}
        {recent.data?.found.length === 0 && (
          <Empty title="Nothing has changed yet">
            Files that you or others change stand here, newest first.
          </Empty>
        )}
        {recent.data && recent.data.found.length > 0 && <FoundList found={recent.data.found} />}
      </div>
    </Frame>
  );
}
