import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vitest/config";

export default defineConfig({
  // Relative to the base element, which the service sets to its public path.
  base: "./",
  plugins: [tailwindcss()],
  esbuild: { jsx: "automatic" },
  build: {
    outDir: "../src/fontanel/service/console",
    emptyOutDir: true,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 2000,
    rollupOptions: {
      input: ["index.html", "docs.html"],
      onwarn(warning, warn) {
        // Packages mark what runs in browsers for servers that render; there is none here.
        if (warning.code !== "MODULE_LEVEL_DIRECTIVE") warn(warning);
      },
    },
  },
  test: { environment: "jsdom", include: ["src/**/*.test.{ts,tsx}"] },
  server: { proxy: { "/api": "http://127.0.0.1:8460" } },
});
