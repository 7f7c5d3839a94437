import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { ToastProvider } from "../ui/toast";
import { startTheme } from "../ui/theme";
import "../ui/tokens.css";
import { Computer } from "./computer";

startTheme();
// The one style sheet that is made at run time (it keeps the page from scrolling behind a dialog).
setNonce(document.querySelector<HTMLMetaElement>("meta[name=style-nonce]")?.content ?? "");

const queries = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: 2_000 } } });

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <ToastProvider>
        <Computer />
      </ToastProvider>
    </QueryClientProvider>
  </StrictMode>,
);
