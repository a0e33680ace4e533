import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vitest/config";

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
  test: { environment: "jsdom", include: ["src/**/*.test.{ts,tsx}"] },
  server: { proxy: { "/api": "http://127.0.0.1:8460" } },
});
