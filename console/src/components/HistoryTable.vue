<script setup lang="ts">
import { computed } from 'vue'
import type { Restore, Run, Wait } from '../api/types'
import { count, duration, moment, size, words } from '../logic/format'
import { noteText, restoreWords, scopeText } from '../logic/restore'
import StateWord from './StateWord.vue'

const props = withDefaults(defineProps<{ runs: Run[]; restores: Restore[]; waits?: Wait[] }>(), { waits: () => [] })

interface Line {
  id: string
  began: string
  what: string
  state: string
  files: string
  bytes: string
  moved: string
  took: string
  note: string
  checklist?: Restore['checklist']
}
const lasted = (from: string, to?: string | null) => (to ? duration((new Date(to).getTime() - new Date(from).getTime()) / 1000) : '–')
const figures = (entry: Run | Restore) => ({
  id: entry.id,
  began: entry.started,
  state: entry.outcome,
  files: count(entry.progress.files_done),
  bytes: size(entry.progress.bytes_done),
  moved: size(entry.progress.sent),
  took: lasted(entry.started, entry.ended),
})

const runLine = (run: Run): Line => ({
  ...figures(run),
  what: run.point == null ? 'Run' : `Run, point ${run.point}`,
  note: run.reason ?? causes(run),
})
const restoreLine = (restore: Restore): Line => ({
  ...figures(restore),
  what: restore.purpose === 'restore' ? `${restoreWords(restore)} (${scopeText(restore)})` : restoreWords(restore),
  note: noteText(restore),
  checklist: restore.checklist,
})
/** A backup that was due and did not start. */
const waitLine = (wait: Wait): Line => ({
  id: `${wait.since} ${wait.reason}`,
  began: wait.since,
  what: 'Run',
  state: 'skipped',
  files: '–',
  bytes: '–',
  moved: '–',
  took: lasted(wait.since, wait.until),
  note: words(wait.reason),
})

function causes(run: Run): string {
  const e = run.exceptions
  const parts = [
    e.changed_while_read && `${e.changed_while_read} changed while read`,
    e.unreadable && `${e.unreadable} not readable`,
    e.disappeared && `${e.disappeared} disappeared`,
  ]
  return parts.filter(Boolean).join(', ')
}

const lines = computed(() =>
  [...props.runs.map(runLine), ...props.restores.map(restoreLine), ...props.waits.map(waitLine)].sort((a, b) => b.began.localeCompare(a.began)),
)
</script>

<template>
  <table class="table table-sm align-middle">
    <thead>
      <tr>
        <th scope="col">Began</th>
        <th scope="col">What</th>
        <th scope="col">Outcome</th>
        <th scope="col" class="jf-number">Files</th>
        <th scope="col" class="jf-number">Size</th>
        <th scope="col" class="jf-number">Moved</th>
        <th scope="col" class="jf-number">Took</th>
        <th scope="col">Note</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in lines" :key="line.id">
        <td class="text-nowrap">{{ moment(line.began) }}</td>
        <td>{{ line.what }}</td>
        <td><StateWord :state="line.state" /></td>
        <td class="jf-number">{{ line.files }}</td>
        <td class="jf-number">{{ line.bytes }}</td>
        <td class="jf-number">{{ line.moved }}</td>
        <td class="jf-number">{{ line.took }}</td>
        <td class="jf-quiet">
          {{ line.note }}
          <details v-if="line.checklist">
            <summary>Checklist</summary>
            <ul class="mb-0">
              <li v-for="item in line.checklist.items" :key="item.what" :class="{ 'jf-bad': item.state === 'wrong' }">{{ item.what }}: {{ item.found }}</li>
            </ul>
          </details>
        </td>
      </tr>
    </tbody>
  </table>
</template>
