export type Theme = 'system' | 'light' | 'dark'
const key = 'lithos.theme'

export const theme = (): Theme => (localStorage.getItem(key) as Theme | null) ?? 'system'

/** Applies the chosen scheme, following the system's where none was chosen. */
export function applyTheme(choice?: Theme) {
  if (choice) localStorage.setItem(key, choice)
  const dark = matchMedia('(prefers-color-scheme: dark)')
  const apply = () => {
    const now = theme()
    document.documentElement.dataset.theme = now === 'system' ? (dark.matches ? 'dark' : 'light') : now
  }
  apply()
  if (!choice) dark.addEventListener('change', apply)
}
