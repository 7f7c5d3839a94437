import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { Redirect, Route, Switch } from "wouter";
import { api } from "./lib/api";
import { FolderPage } from "./pages/folder";
import { SetUpPage } from "./pages/setup";
import { ShelvesPage } from "./pages/shelves";
import { SignInPage } from "./pages/signin";
import { Empty, Frame, Loading, Notice } from "./ui";

/** Which page: by who is signed in, then by the address. */
export function App() {
  const queries = useQueryClient();
  const welcome = useQuery({ queryKey: ["welcome"], queryFn: api.welcome, refetchInterval: 60_000 });
  const signOut = useCallback(async () => {
    await api.signOut().catch(() => {});
    await queries.refetchQueries({ queryKey: ["welcome"] });
    // Nothing of the one who left stays for the next.
    queries.removeQueries({ predicate: (q) => q.queryKey[0] !== "welcome" });
  }, [queries]);

  if (welcome.isPending) return <Loading />;
  if (welcome.isError) return <Notice error={welcome.error} retry={() => void welcome.refetch()} />;
  const { me, needs_set_up: needsSetUp } = welcome.data;
  if (needsSetUp) return <SetUpPage />;
  if (!me) return <SignInPage />;
  const frame = { me, onSignOut: () => void signOut() };
  return (
    <Switch>
      <Route path="/">
        <ShelvesPage frame={frame} />
      </Route>
      <Route path="/shelf/*?">
        <FolderPage frame={frame} />
      </Route>
      <Route path="/set-up">
        <Redirect to="/" />
      </Route>
      <Route path="/sign-in">
        <Redirect to="/" />
      </Route>
      <Route>
        <Frame {...frame} heading={<h1 className="font-bold">Not found</h1>}>
          <Empty title="There is no such page">The shelves are where everything begins.</Empty>
        </Frame>
      </Route>
    </Switch>
  );
}
