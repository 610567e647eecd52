/** Mail as people type it. */
import type { MailSecurity } from '../api/types'

/** The ports that mail servers usually have. */
export const USUAL_PORTS: Record<MailSecurity, number> = { tls: 465, starttls: 587, none: 25 }

/** Addresses with commas, semicolons or line breaks between them. */
export function addresses(text: string): string[] {
  return text
    .split(/[,;\n]/)
    .map((one) => one.trim())
    .filter((one) => one !== '')
}
