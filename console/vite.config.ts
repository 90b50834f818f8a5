/// <reference types="vitest/config" />
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react()],
  build: {
    outDir: '../src/pinecart/service/console_built',
    emptyOutDir: true,
    chunkSizeWarningLimit: 1200,
    rolldownOptions: {
      output: { codeSplitting: { groups: [{ name: 'antd', test: /node_modules[\\/](antd|@ant-design|@rc-component|rc-)/ }] } },
    },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8750' } },
  test: { environment: 'jsdom', globals: true, testTimeout: 30000, setupFiles: ['src/setup.ts'] },
})
