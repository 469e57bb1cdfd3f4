import js from '@eslint/js'
import a11y from 'eslint-plugin-jsx-a11y'
import hooks from 'eslint-plugin-react-hooks'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'src/api/schema.gen.ts', 'vite.config.ts', 'eslint.config.js'] },
  js.configs.recommended,
  ...ts.configs.strictTypeChecked,
  a11y.flatConfigs.recommended,
  {
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    plugins: { 'react-hooks': hooks },
    rules: {
      ...hooks.configs.recommended.rules,
      '@typescript-eslint/no-confusing-void-expression': ['error', { ignoreArrowShorthand: true }],
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true, allowBoolean: true, allowNullish: true }],
      // A component that is longer is several.
      'max-lines-per-function': ['error', { max: 200 }],
      // So many ways lead through a function at most, as in Go.
      complexity: ['error', 20],
      'max-len': ['error', { code: 120, ignorePattern: '^import ' }],
      // A window that opens puts the cursor in its first field.
      'jsx-a11y/no-autofocus': 'off',
      // The ruler and the drawings take the keyboard as one thing each.
      'jsx-a11y/no-noninteractive-tabindex': 'off',
      'jsx-a11y/no-noninteractive-element-interactions': 'off',
      // Lists are drawn by a library whose functions cannot be kept between drawings.
      'react-hooks/incompatible-library': 'off',
    },
  },
)
