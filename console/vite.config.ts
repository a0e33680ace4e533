import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [tailwindcss()],
  esbuild: { jsx: "automatic" },
  build: {
    outDir: "../src/fontanel/service/console",
    emptyOutDir: true,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 2000,
    rollupOptions: { input: ["index.html", "docs.html"] },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8460" } },
});
