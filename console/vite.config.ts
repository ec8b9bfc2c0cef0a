import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { defineConfig, type Plugin } from "vite";

// While one works on it (make dev), the service answers for all that is not the console.
const service = "http://127.0.0.1:8700";

// Beside each part of the console stands its compressed form, which the service sends as it is.
function packed(): Plugin {
  return {
    name: "packed",
    writeBundle({ dir }, bundle) {
      for (const name of Object.keys(bundle).filter((name) => /\.(js|css|svg)$/.test(name))) {
        const file = join(dir ?? "", name);
        writeFileSync(file + ".gz", gzipSync(readFileSync(file), { level: 9 }));
      }
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwindcss(), packed()],
  build: { outDir: "dist", assetsInlineLimit: 0 },
  server: { proxy: { "/api": service, "/at": service, "/keys": service } },
});
