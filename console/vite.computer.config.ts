import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

/** The page of one computer, which its client serves: built apart from the console, which the service serves. */
export default defineConfig({
  plugins: [react(), tailwind()],
  build: {
    outDir: "dist-computer",
    // Data addresses for scripts are not allowed by our own policy.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
    rollupOptions: { input: { computer: "computer.html" } },
  },
});
