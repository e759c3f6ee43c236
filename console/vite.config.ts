import { brotliCompressSync, gzipSync } from "node:zlib";
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import react from "@vitejs/plugin-react";
import tailwind from "@tailwindcss/vite";
import { defineConfig, type Plugin } from "vite";

// The service sends an asset's compressed sibling where the browser takes it.
function siblings(): Plugin {
  return {
    name: "siblings",
    apply: "build",
    closeBundle() {
      const dir = "dist/assets";
      for (const f of readdirSync(dir).filter((f) => /\.(js|css|svg)$/.test(f))) {
        const b = readFileSync(join(dir, f));
        writeFileSync(join(dir, f + ".br"), brotliCompressSync(b));
        writeFileSync(join(dir, f + ".gz"), gzipSync(b, { level: 9 }));
      }
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwind(), siblings()],
  html: { cspNonce: "__NONCE__" },
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:8460" } },
});
