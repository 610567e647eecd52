// Before the first paint: the colours that were chosen, or those of the system.
(() => {
  const chosen = localStorage.getItem('jetfrost-colours')
  const dark = chosen ? chosen === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches
  document.documentElement.dataset.bsTheme = dark ? 'dark' : 'light'
})()
