import { ref, watchEffect } from 'vue'

const stored = localStorage.getItem('look')
const dark = ref(stored ? stored === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)

/** Whether the console is dark, and the way to change that. */
export function useLook() {
  watchEffect(() => {
    document.documentElement.classList.toggle('dark', dark.value)
  })
  function change() {
    dark.value = !dark.value
    localStorage.setItem('look', dark.value ? 'dark' : 'light')
  }
  return { dark, change }
}
