/** How a package is installed, by its name; empty where the name does not tell. */
export function installing(name: string): string {
  if (name.endsWith('.deb')) return `sudo apt install ./${name}`
  if (name.endsWith('.rpm')) return `sudo dnf install ./${name}`
  if (name.endsWith('.tar.gz')) return `tar xzf ${name}`
  return ''
}
