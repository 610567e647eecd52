/** Why something of an image store could not be read. */

/**
 * A wrong or mistyped secret, bytes that are not what they should be, a piece that is gone, a path that leads nowhere, more than an
 * order takes, a format of a later version.
 */
export type ImageTrouble = 'secret' | 'damaged' | 'missing' | 'no-such-path' | 'too-much' | 'unknown-version'

export class ImageError extends Error {
  constructor(
    readonly trouble: ImageTrouble,
    message: string,
  ) {
    super(message)
    this.name = 'ImageError'
  }
}

export const damaged = (what: string, why: string) => new ImageError('damaged', `${what} is damaged: ${why}`)

/** Whether it is one piece of the store that is lost, and not the connection or the service. */
export function isLoss(error: unknown): error is ImageError {
  return error instanceof ImageError && (error.trouble === 'damaged' || error.trouble === 'missing')
}
