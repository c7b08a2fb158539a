import { fileURLToPath } from "node:url"
import tailwindcss from "@tailwindcss/vite"
import react from "@vitejs/plugin-react"
import { defineConfig } from "vite"

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: fileURLToPath(new URL("./dist/console", import.meta.url)),
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
  },
  // For work on the console: the service beside it answers the API.
  server: { proxy: { "/api": "http://127.0.0.1:4180", "/signin": "http://127.0.0.1:4180" } },
})
