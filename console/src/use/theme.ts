import { ref, watchEffect } from 'vue'

type Theme = 'light' | 'dark'
const stored = localStorage.getItem('bouncer-theme') as Theme | null
const system: Theme = window.matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'
const theme = ref<Theme>(stored ?? system)

watchEffect(() => document.documentElement.classList.toggle('dark', theme.value === 'dark'))

/** useTheme switches between light and dark, and remembers the choice. */
export function useTheme() {
  function toggle() {
    theme.value = theme.value === 'dark' ? 'light' : 'dark'
    localStorage.setItem('bouncer-theme', theme.value)
  }
  return { theme, toggle }
}
