import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App } from "./app";
import { Refusal } from "./lib/api";
import { ToastProvider } from "./ui";
import { startTheme } from "./ui/theme";
import "./ui/tokens.css";
import { key } from "./lib/query-keys";

startTheme();
// The one style sheet that is made at run time (it keeps the page from scrolling behind a dialog).
setNonce(document.querySelector<HTMLMetaElement>("meta[name=style-nonce]")?.content ?? "");

const queries = new QueryClient({
  queryCache: new QueryCache({
    // The sign-in ended meanwhile: the page follows.
    onError: (error, query) => {
      if (error instanceof Refusal && error.status === 401 && query.queryKey[0] !== "welcome") {
        void queries.invalidateQueries({ queryKey: key("welcome") });
      }
    },
  }),
  defaultOptions: {
    queries: {
      // A refusal is an answer; only a broken line is worth asking again.
      retry: (n, error) =>
        n < 3 && (!(error instanceof Refusal) || error.status === 0 || error.status === 503),
      staleTime: 2_000,
    },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <ToastProvider>
        <App />
      </ToastProvider>
    </QueryClientProvider>
  </StrictMode>,
);
