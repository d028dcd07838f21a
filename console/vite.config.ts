import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// Leaves out what daisyUI adds for a switch of themes that is not used here. To ask of the whole page
// whether such a switch is in it has the browser reckon the styles of the root again for every row
// that comes.
const withoutThemeSwitch = {
  postcssPlugin: "without-theme-switch",
  Rule(rule: { selectors: string[]; remove: () => void }) {
    const wanted = rule.selectors.filter((selector) => !selector.includes("theme-controller"));
    if (wanted.length === 0) rule.remove();
    else if (wanted.length < rule.selectors.length) rule.selectors = wanted;
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss()],
  css: { postcss: { plugins: [withoutThemeSwitch] } },
  // No inline scripts, styles or data URLs: the service sends a strict Content-Security-Policy.
  build: { assetsInlineLimit: 0, modulePreload: { polyfill: false } },
});
