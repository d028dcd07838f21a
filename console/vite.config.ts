import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // No inline scripts, styles or data URLs: the service sends a strict Content-Security-Policy.
  build: { assetsInlineLimit: 0, modulePreload: { polyfill: false } },
});
