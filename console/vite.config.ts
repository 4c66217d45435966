import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

const service = process.env.NESTREL_URL ?? "http://127.0.0.1:8460";

export default defineConfig({
  base: "/console/",
  plugins: [react(), tailwindcss()],
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
