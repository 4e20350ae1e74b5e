import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, gzipSync } from "node:zlib";
import react from "@vitejs/plugin-react";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";

/** Lays compressed twins beside what is built, which the server hands to whoever takes them. */
const compressed: Plugin = {
  name: "compressed",
  apply: "build",
  writeBundle({ dir = "" }, bundle) {
    for (const name of Object.keys(bundle).filter((one) => /\.(js|css)$/.test(one))) {
      const path = join(dir, name);
      const content = readFileSync(path);
      writeFileSync(`${path}.gz`, gzipSync(content, { level: 9 }));
      writeFileSync(`${path}.br`, brotliCompressSync(content));
    }
  },
};

export default defineConfig({
  base: "/static/",
  plugins: [react(), compressed],
  build: { chunkSizeWarningLimit: 1500 },
  // a machine that is busy with other things is no fault of the desk
  test: { testTimeout: 30_000, pool: "threads", isolate: false },
});
