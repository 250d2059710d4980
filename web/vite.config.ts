import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [react()],
  build: {
    // An inlined font would break the content security policy.
    assetsInlineLimit: 0,
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            { name: 'react', test: /node_modules\/(react|react-dom|react-router|scheduler)\// },
            { name: 'mui', test: /node_modules\/(@mui|@emotion)\// },
          ],
        },
      },
    },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8420' } },
  test: {
    environment: 'happy-dom',
    include: ['src/**/*.test.{ts,tsx}'],
    setupFiles: ['src/tests/setup.ts'],
    testTimeout: 30_000,
    // One worker a core reads the libraries once for all its files.
    pool: 'threads',
    isolate: false,
  },
});
