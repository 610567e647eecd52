<script setup lang="ts">
import { computed } from 'vue'
import type { Restore, Run } from '../api/types'
import { count, duration, moment, size } from '../logic/format'
import StateWord from './StateWord.vue'

const props = defineProps<{ runs: Run[]; restores: Restore[] }>()

interface Line {
  id: string
  what: string
  note: string
  entry: Run | Restore
}

const runLine = (run: Run): Line => ({
  id: run.id,
  what: run.point == null ? 'Run' : `Run, point ${run.point}`,
  note: run.reason ?? causes(run),
  entry: run,
})
const restoreLine = (restore: Restore): Line => ({
  id: restore.id,
  what: restore.purpose === 'drill' ? `Drill of point ${restore.point}` : `Restore from point ${restore.point} (${restore.scope})`,
  note: restore.reason ?? `by ${restore.by}${restore.exceptions ? `, ${restore.exceptions} not as they were` : ''}`,
  entry: restore,
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

const lasted = (entry: Run | Restore) =>
  entry.ended ? duration((new Date(entry.ended).getTime() - new Date(entry.started).getTime()) / 1000) : '–'

const lines = computed(() =>
  [...props.runs.map(runLine), ...props.restores.map(restoreLine)].sort((a, b) => b.entry.started.localeCompare(a.entry.started)),
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
        <td class="text-nowrap">{{ moment(line.entry.started) }}</td>
        <td>{{ line.what }}</td>
        <td><StateWord :state="line.entry.outcome" /></td>
        <td class="jf-number">{{ count(line.entry.progress.files_done) }}</td>
        <td class="jf-number">{{ size(line.entry.progress.bytes_done) }}</td>
        <td class="jf-number">{{ size(line.entry.progress.sent) }}</td>
        <td class="jf-number">{{ lasted(line.entry) }}</td>
        <td class="jf-quiet">{{ line.note }}</td>
      </tr>
    </tbody>
  </table>
</template>
