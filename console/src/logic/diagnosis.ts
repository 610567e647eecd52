/** Diagnoses that workstations made of themselves, as people read them. */
import type { DiagnosisLine, LastDiagnosis } from '../api/types'
import { many } from './format'

/** The word for what a step came to, and the mood of its mark. */
export function mark(line: DiagnosisLine): { word: string; mood: 'is-calm' | 'is-warn' | 'is-bad' } {
  if (line.result === 'failed') return { word: 'failed', mood: 'is-bad' }
  return line.result === 'noticed' ? { word: 'look', mood: 'is-warn' } : { word: 'ok', mood: 'is-calm' }
}

/** Who has to act on a step, as the start of what to do; empty where nobody does. */
export function whose(line: DiagnosisLine): string {
  if (!line.next) return ''
  return line.whose_move === 'administrator' ? 'For the administrator: ' : 'At the workstation: '
}

/** What came of it, in a sentence. */
export function verdict({ found }: LastDiagnosis): string {
  if (!found) return 'This workstation was never diagnosed.'
  const passed = found.steps.filter((step) => step.result === 'passed').length
  if (!found.well) return `A step failed; it explains why backups are not made. ${many(passed, 'step')} before it passed.`
  const noticed = found.steps.filter((step) => step.result === 'noticed').length
  return noticed ? `Nothing is in the way of a backup; ${many(noticed, 'step')} should be looked at.` : `All ${many(passed, 'step')} passed.`
}

/** The steps that somebody should read first: all that did not pass. */
export const remarkable = ({ found }: LastDiagnosis) => found?.steps.filter((step) => step.result !== 'passed') ?? []
