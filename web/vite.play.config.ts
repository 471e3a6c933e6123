// The page that plays: files that lie anywhere, beside the instruments that they play.
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { resolve } from "node:path";
import { defineConfig } from "vite";

const at = (path: string) => resolve(import.meta.dirname, path);

export default defineConfig({
  root: at("play"),
  base: "./",
  plugins: [react(), tailwindcss()],
  build: {
    target: "es2023",
    outDir: at("dist/play"),
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
    rollupOptions: {
      input: { index: at("play/index.html"), worker: at("src/play/worker.ts") },
      // A service worker reaches what lies beside and below it.
      output: { entryFileNames: ({ name }) => (name === "worker" ? "worker.js" : "assets/[name]-[hash].js") },
    },
  },
  worker: { format: "es" },
});
