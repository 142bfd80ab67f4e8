import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // The content security policy allows nothing but files of our own.
  build: { assetsInlineLimit: 0, target: "es2023", chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:8420" } },
  test: {
    environment: "node",
    include: ["src/**/*.test.{ts,tsx}"],
    setupFiles: ["src/testing/setup.ts"],
  },
});
