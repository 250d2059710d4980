import js from '@eslint/js';
import jsxA11y from 'eslint-plugin-jsx-a11y';
import reactHooks from 'eslint-plugin-react-hooks';
import tseslint from 'typescript-eslint';

export default tseslint.config(
  { ignores: ['dist', 'src/api/schema.d.ts', 'test-results', 'playwright-report'] },
  js.configs.recommended,
  ...tseslint.configs.strict,
  jsxA11y.flatConfigs.recommended,
  reactHooks.configs.flat.recommended,
  {
    rules: {
      '@typescript-eslint/no-non-null-assertion': 'off',
    },
  },
  {
    // A script of node that hands functions to a page: what is there in both.
    files: ['**/*.mjs'],
    languageOptions: {
      globals: Object.fromEntries(
        [
          'console process window document fetch FormData Blob performance',
          'PerformanceObserver requestAnimationFrame cancelAnimationFrame',
        ]
          .join(' ')
          .split(' ')
          .map((name) => [name, 'readonly']),
      ),
    },
  },
);
