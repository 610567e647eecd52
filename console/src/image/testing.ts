/** An image store in memory for tests: chunks by name, unsealed; points of folders and files that are written as the format says. */
import { encode } from 'cborg'
import { concat, toHex, utf8, type Bytes } from './bytes'
import type { ChunkSource, Content } from './content'
import { damaged, ImageError } from './errors'
import { hasher } from './hash'
import { UnlockedStore } from './store'

/** A folder of folders and files; a file is its text, or its pieces. */
export interface Tree {
  [name: string]: Tree | string | string[]
}

export class MemoryStore implements ChunkSource {
  readonly chunks = new Map<string, Bytes>()
  /** Names that were asked for, call by call. */
  readonly asked: string[][] = []
  private readonly roots = new Map<number, Content>()
  readonly store = new UnlockedStore((sequence) => {
    const root = this.roots.get(sequence)
    if (!root) throw new ImageError('missing', 'there is no such point')
    return Promise.resolve({ root, included: [], excluded: [], host: 'avocet' })
  }, this)

  async get(names: Bytes[]): Promise<Bytes[]> {
    this.asked.push(names.map(toHex))
    return Promise.resolve(
      names.map((name) => {
        const chunk = this.chunks.get(toHex(name))
        if (!chunk) throw damaged('a chunk', 'a bit of it flipped')
        return chunk
      }),
    )
  }

  async point(sequence: number, tree: Tree): Promise<void> {
    this.roots.set(sequence, (await this.folder(tree)).content)
  }

  /** Loses the chunk that holds this text. */
  lose(text: string) {
    const lost = [...this.chunks].filter(([, chunk]) => new TextDecoder().decode(chunk) === text)
    for (const [name] of lost) this.chunks.delete(name)
  }

  /** Loses the listing that a folder has. */
  async loseListing(tree: Tree) {
    for (const { name } of (await this.folder(tree)).content.parts) if (name) this.chunks.delete(toHex(name))
  }

  private async put(chunk: Bytes): Promise<Bytes> {
    const name = (await hasher()).hash(chunk)
    this.chunks.set(toHex(name), chunk)
    return name
  }

  private async folder(tree: Tree): Promise<{ content: Content }> {
    const entries: Bytes[] = []
    for (const name of Object.keys(tree).sort()) {
      const child = tree[name] ?? ''
      const isFolder = typeof child === 'object' && !Array.isArray(child)
      const { content } = isFolder ? await this.folder(child) : await this.file(typeof child === 'string' ? [child] : (child as string[]))
      const reference = [content.length, content.depth, content.parts.map((part) => [part.length, part.name])]
      const fields: [number, unknown][] = [[0, utf8(name)], [1, isFolder ? 2 : 1], [2, 0o644], [3, 1000], [4, 1000], [7, 1_790_000_000], [8, 0], [9, reference]]
      entries.push(new Uint8Array(encode(new Map(fields))))
    }
    return { content: await this.content([concat(...entries)]) }
  }

  private file = async (pieces: string[]) => ({ content: await this.content(pieces.map(utf8)) })

  private async content(pieces: Bytes[]): Promise<Content> {
    const parts = []
    for (const piece of pieces.filter((one) => one.length > 0)) parts.push({ length: piece.length, name: await this.put(piece) })
    return { length: parts.reduce((sum, part) => sum + part.length, 0), depth: 0, parts }
  }
}
