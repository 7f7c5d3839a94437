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
  },
  server: { proxy: { "/api": "http://127.0.0.1:7461" } },
});
