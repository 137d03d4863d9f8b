import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: "../src/ecumen_web/app",
    emptyOutDir: true,
    // The page's security policy lets nothing be written into it.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8420" } },
  test: { environment: "jsdom", include: ["src/**/*.test.{ts,tsx}"] },
});
