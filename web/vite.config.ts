import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  base: "/static/",
  plugins: [react()],
  build: { chunkSizeWarningLimit: 1500 },
  // a machine that is busy with other things is no fault of the desk
  test: { testTimeout: 30_000 },
});
