import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";
import { VitePWA } from "vite-plugin-pwa";

const service = process.env.NESTREL_URL ?? "http://127.0.0.1:8460";

export default defineConfig({
  base: "/console/",
  plugins: [
    react(),
    tailwindcss(),
    // The shell is kept by a service worker, so that the console opens with no network; the data is in IndexedDB.
    VitePWA({
      registerType: "autoUpdate",
      injectRegister: "script",
      manifest: false,
      workbox: {
        importScripts: ["push.js"],
        globPatterns: ["**/*.{js,css,html,svg,woff2}"],
        navigateFallback: "/console/index.html",
        navigateFallbackDenylist: [/\/console\/config\.json/],
        maximumFileSizeToCacheInBytes: 4_000_000,
      },
    }),
  ],
  build: {
    outDir: "../src/nestrel/service/web",
    emptyOutDir: true,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 900,
  },
  server: {
    proxy: {
      "/v1": { target: service, ws: true },
      "/console/config.json": service,
    },
  },
});
