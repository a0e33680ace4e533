import { defineConfig } from "vite";

/** The script for other sites: one file that defines nothing global. */
export default defineConfig({
  publicDir: false,
  build: {
    outDir: "../src/fontanel/service/console",
    emptyOutDir: false,
    target: "es2022",
    lib: {
      entry: "src/embed/panel.ts",
      formats: ["iife"],
      name: "panel",
      fileName: () => "embed.js",
    },
    rollupOptions: { output: { extend: false } },
  },
});
