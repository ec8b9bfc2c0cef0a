import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// While one works on it (make dev), the service answers for all that is not the console.
const service = "http://127.0.0.1:8700";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: "dist", assetsInlineLimit: 0 },
  server: { proxy: { "/api": service, "/at": service, "/keys": service } },
});
