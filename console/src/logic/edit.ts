/** What a form sets, field by field, as people read it. */
export type Line = [label: string, text: string]

/** A field that two people set differently. */
export interface Difference {
  label: string
  theirs: string
  mine: string
}

/** The fields that are not the same. */
export function differences(theirs: Line[], mine: Line[]): Difference[] {
  const others = new Map(theirs)
  return mine.flatMap(([label, text]) => {
    const other = others.get(label) ?? ''
    return other === text ? [] : [{ label, theirs: other, mine: text }]
  })
}
