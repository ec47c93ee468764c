import js from '@eslint/js'
import svelte from 'eslint-plugin-svelte'
import globals from 'globals'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist/', 'node_modules/', 'src/lib/api/schema.ts'] },
  js.configs.recommended,
  ts.configs.recommended,
  svelte.configs.recommended,
  { languageOptions: { globals: { ...globals.browser, ...globals.node } } },
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: { parserOptions: { parser: ts.parser } },
  },
  {
    rules: {
      // Addresses are those of the router, which has no function that resolves them.
      'svelte/no-navigation-without-resolve': 'off',
      // An escape in a text needs the braces.
      'svelte/no-useless-mustaches': 'off',
      // What is read only so that an effect depends on it stands alone.
      '@typescript-eslint/no-unused-expressions': 'off',
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      // Props are declared with let; svelte/prefer-const knows them.
      'prefer-const': 'off',
      'svelte/prefer-const': ['error', { destructuring: 'all' }],
    },
  },
)
