<script setup lang="ts">
import { RouterLink } from 'vue-router'
import type { Workstation } from '../api/types'
import { late, nextRun } from '../logic/agent'
import { age, many, moment, size } from '../logic/format'
import { provenText } from '../logic/restore'
import { sources } from '../logic/schedule'
import StateWord from './StateWord.vue'

/** `more` adds columns that are seldom needed. */
defineProps<{ workstations: Workstation[]; now: Date; more: boolean }>()

function runNote(workstation: Workstation): string {
  const run = workstation.latest_run
  if (!run) return 'no run yet'
  if (run.outcome === 'underway') {
    const { bytes_done: done, bytes_total: total } = run.progress
    return total ? `underway, ${Math.min(Math.round((100 * done) / total), 100)} %` : 'underway'
  }
  const exceptions = run.exceptions.changed_while_read + run.exceptions.unreadable + run.exceptions.disappeared
  return exceptions > 0 ? `complete with ${many(exceptions, 'exception')}` : run.outcome
}
</script>

<template>
  <div class="jf-panel table-responsive">
    <table class="table table-sm table-hover align-middle">
      <thead>
        <tr>
          <th scope="col">Workstation</th>
          <th scope="col">Person</th>
          <th scope="col">State</th>
          <th scope="col">Next backup</th>
          <th scope="col">Last complete point</th>
          <th scope="col">Proven restorable</th>
          <th scope="col" class="jf-number">Size</th>
          <th scope="col" class="jf-number">Image store</th>
          <th scope="col">Last run</th>
          <th scope="col">Destination</th>
          <template v-if="more">
            <th scope="col">Agent seen</th>
            <th scope="col">Client</th>
            <th scope="col">Schedule set by</th>
          </template>
        </tr>
      </thead>
      <tbody>
        <tr v-for="w in workstations" :key="w.id">
          <th scope="row"><RouterLink :to="{ name: 'workstation', params: { id: w.id } }">{{ w.name }}</RouterLink></th>
          <td>{{ w.person }}</td>
          <td><StateWord :state="w.store.suspect ? 'suspect' : w.state" /></td>
          <td><span :class="{ 'jf-bad': late(w.agent), 'jf-quiet': !w.agent }">{{ nextRun(w, now) }}</span></td>
          <td>
            <span v-if="w.latest_point" :title="moment(w.latest_point.committed)">{{ age(w.latest_point.committed, now) }}</span>
            <span v-else class="jf-quiet">none</span>
          </td>
          <td :class="{ 'jf-bad': w.store.drill_failed }">{{ provenText(w.store, now) }}</td>
          <td class="jf-number">{{ w.latest_point ? size(w.latest_point.bytes) : '–' }}</td>
          <td class="jf-number">{{ w.store.used == null ? '–' : size(w.store.used) }}</td>
          <td>{{ runNote(w) }}</td>
          <td>{{ w.store.destination_name }}</td>
          <template v-if="more">
            <td>{{ w.agent ? age(w.agent.seen, now) : 'never' }}</td>
            <td>{{ w.client_version }}, {{ w.platform }}</td>
            <td>{{ sources(w.schedule) }}</td>
          </template>
        </tr>
      </tbody>
    </table>
  </div>
</template>
