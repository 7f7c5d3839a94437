import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App } from "./app";
import { Refusal } from "./lib/api";
import { ToastProvider } from "./ui";
import { startTheme } from "./ui/theme";
import "./ui/tokens.css";

startTheme();

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // A refusal is an answer; only a broken line is worth asking again.
      retry: (n, error) => n < 3 && (!(error instanceof Refusal) || error.status === 0 || error.status === 503),
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
