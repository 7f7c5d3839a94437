import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwind()],
  build: {
    // Data addresses for scripts are not allowed by our own policy.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
    chunkSizeWarningLimit: 600,
    // The service looks up in it which files the pages for strangers need.
    manifest: "assets/manifest.json",
    rollupOptions: {
      input: {
        index: "index.html",
        open: "src/strangers/open.ts",
        send: "src/strangers/send.ts",
      },
    },
  },
  server: { proxy: { "/api": "http://127.0.0.1:7461" } },
});
