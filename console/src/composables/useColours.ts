/** Light or dark, remembered. */
import { ref } from 'vue'

const dark = ref(document.documentElement.dataset.bsTheme === 'dark')

export function useColours() {
  return {
    dark,
    change() {
      dark.value = !dark.value
      document.documentElement.dataset.bsTheme = dark.value ? 'dark' : 'light'
      localStorage.setItem('jetfrost-colours', dark.value ? 'dark' : 'light')
    },
  }
}
