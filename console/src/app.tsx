import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useCallback, useEffect, useState } from "react";
import { Redirect, Route, Switch, useLocation } from "wouter";
import { api, type Welcome } from "./lib/api";
import { useLive } from "./lib/live";
import { onPalette } from "./lib/palette";
import { uploads } from "./lib/uploads";
import { FolderPage } from "./pages/folder";
import { Proof } from "./pages/proof";
import { ShelvesPage } from "./pages/shelves";
import { SignInPage } from "./pages/signin";
import { UploadTray } from "./pages/tray";
import { Empty, Frame, Loading, Notice } from "./ui";
import { key } from "./lib/query-keys";

// What most people open seldom comes when it is opened.
const AccountPage = lazy(() => import("./pages/account"));
const FactorDemanded = lazy(() => import("./pages/account/demanded"));
const ConnectPage = lazy(() => import("./pages/devices/connect"));
const DevicesPage = lazy(() => import("./pages/devices"));
const RecentPage = lazy(() => import("./pages/recent"));
const SetUpPage = lazy(() => import("./pages/setup"));
const WelcomePage = lazy(() => import("./pages/welcome"));
const OutsidePage = lazy(() => import("./pages/outside"));
const DeskPage = lazy(() => import("./pages/desk"));
const SpacePage = lazy(() => import("./pages/space"));
const Palette = lazy(() => import("./pages/palette"));

/** Which page: by who is signed in, then by the address. */
export function App() {
  return (
    <Suspense fallback={<Loading />}>
      <Pages />
    </Suspense>
  );
}

function Pages() {
  const queries = useQueryClient();
  const [location] = useLocation();
  const welcome = useQuery({ queryKey: key("welcome"), queryFn: api.welcome, refetchInterval: 60_000 });
  const signOut = useCallback(async () => {
    const me = queries.getQueryData<Welcome>(["welcome"])?.me;
    // Whoever looks as somebody is themselves again afterwards.
    await (me?.seen_by ? api.endLook() : api.signOut()).catch(() => {});
    await queries.refetchQueries({ queryKey: key("welcome") });
    // Nothing of the one who left stays for the next.
    queries.removeQueries({ predicate: (q) => q.queryKey[0] !== "welcome" });
  }, [queries]);

  const signedIn = welcome.data?.me?.sign_in;
  const seenBy = welcome.data?.me?.seen_by;
  useLive(queries, signedIn !== undefined);
  useEffect(() => {
    if (!signedIn) return;
    if (!seenBy) void uploads.recall();
    // At hand before it is asked for: what one types at once is not lost.
    void import("./pages/palette");
  }, [signedIn, seenBy]);
  const [palette, setPalette] = useState(false);
  useEffect(() => onPalette(() => setPalette(true)), []);

  if (welcome.isPending) return <Loading />;
  if (welcome.isError) return <Notice error={welcome.error} retry={() => void welcome.refetch()} />;
  const { me, needs_set_up: needsSetUp } = welcome.data;
  if (needsSetUp) return <SetUpPage />;
  // An invitation is for whoever opens it, signed in or not.
  if (location === "/welcome" && window.location.hash.length > 1) return <WelcomePage />;
  if (!me)
    return <SignInPage domains={welcome.data.sign_up ?? []} organisation={welcome.data.organisation} />;
  if (me.needs_factor) {
    return (
      <>
        <FactorDemanded onSignOut={() => void signOut()} />
        <Proof />
      </>
    );
  }
  const frame = { me, onSignOut: () => void signOut() };
  return (
    <>
      <Suspense fallback={<Loading />}>
        <Switch>
          <Route path="/">
            <ShelvesPage frame={frame} />
          </Route>
          <Route path="/shelf/*?">
            <FolderPage frame={frame} />
          </Route>
          <Route path="/account">
            <AccountPage frame={frame} />
          </Route>
          <Route path="/welcome">
            <Redirect to="/" />
          </Route>
          <Route path="/space">
            <SpacePage frame={frame} />
          </Route>
          <Route path="/devices">
            <DevicesPage frame={frame} />
          </Route>
          <Route path="/connect">
            <ConnectPage frame={frame} />
          </Route>
          {(["given", "intake"] as const).map((part) => (
            <Route key={part} path={part === "given" ? "/given-out" : "/intake"}>
              <OutsidePage frame={frame} part={part} />
            </Route>
          ))}
          <Route path="/desk/:part?/:of?">
            {({ part, of }) => <DeskPage frame={frame} part={part} of={of} />}
          </Route>
          <Route path="/recent">
            <RecentPage frame={frame} />
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
      </Suspense>
      <UploadTray />
      <Proof />
      {palette && (
        <Suspense>
          <Palette
            administrator={me.role === "administrator"}
            onClose={() => setPalette(false)}
            onSignOut={frame.onSignOut}
          />
        </Suspense>
      )}
    </>
  );
}
