/**
 * Where a download is written: a file that the person chooses, where the browser can ask for one, and else a file of this page's own, which is then
 * handed to the browser as a download. Either way nothing is held in memory.
 */

interface SavePicker {
  showSaveFilePicker?: (options: { suggestedName: string }) => Promise<FileSystemFileHandle>
}

export interface Place {
  handle: FileSystemFileHandle
  /** Gives the finished file to the person. */
  deliver: () => Promise<void>
}

const FOLDER = 'downloads'

/** A place for a file of this name; `undefined` when the person changed their mind. */
export async function placeFor(name: string): Promise<Place | undefined> {
  const picker = (window as unknown as SavePicker).showSaveFilePicker
  if (!picker) return ownPlace(name)
  try {
    return { handle: await picker({ suggestedName: name }), deliver: () => Promise.resolve() }
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') return undefined
    throw error
  }
}

async function ownPlace(name: string): Promise<Place> {
  const folder = await (await navigator.storage.getDirectory()).getDirectoryHandle(FOLDER, { create: true })
  const handle = await folder.getFileHandle(`${crypto.randomUUID()}`, { create: true })
  return {
    handle,
    async deliver() {
      const link = document.createElement('a')
      link.href = URL.createObjectURL(await handle.getFile())
      link.download = name
      link.click()
    },
  }
}

/** Removes what earlier downloads left with the browser: it has been handed over since. */
export async function clearOwnPlace(): Promise<void> {
  const root = await navigator.storage.getDirectory()
  await root.removeEntry(FOLDER, { recursive: true }).catch(() => undefined)
}
