/**
 * Light or dark: what the person chose, else what the system asks for. It is set before anything that takes
 * its colours from it is made; another choice loads the page anew (the job is on the server).
 */
const KEPT = 'mason.theme'

export type Theme = 'light' | 'dark'

const kept = localStorage.getItem(KEPT)
const asked: Theme = window.matchMedia?.('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'
export const theme: Theme = kept === 'light' || kept === 'dark' ? kept : asked
export const dark = theme === 'dark'
document.documentElement.dataset.theme = theme

export function swapTheme() {
  localStorage.setItem(KEPT, dark ? 'light' : 'dark')
  window.location.reload()
}
