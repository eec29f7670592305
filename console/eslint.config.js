// What the compiler does not see: dead code, misuse of the framework, and promises nobody waits for.
import prettier from '@vue/eslint-config-prettier/skip-formatting'
import vue from 'eslint-plugin-vue'
import tseslint from 'typescript-eslint'

export default tseslint.config(
  { ignores: ['node_modules', 'src/api/contract.gen.ts'] },
  ...tseslint.configs.recommended,
  ...vue.configs['flat/recommended'],
  { files: ['**/*.vue'], languageOptions: { parserOptions: { parser: tseslint.parser } } },
  prettier,
  {
    rules: {
      'vue/multi-word-component-names': 'off',
      'vue/require-default-prop': 'off', // optional properties are typed as such
    },
  },
)
