import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // fonts stay files: the content policy allows no data addresses for them
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 2000, sourcemap: false },
  server: { proxy: { "/api": "http://127.0.0.1:8321" } },
});
