/** Tables as comma-separated values (RFC 4180). */

/** A field. What a spreadsheet would take for a formula is marked as text. */
function field(text: string): string {
  const plain = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text
  return /[",\r\n]/.test(plain) ? `"${plain.replaceAll('"', '""')}"` : plain
}

export const csv = (rows: string[][]) => rows.map((row) => `${row.map(field).join(',')}\r\n`).join('')
