<script setup lang="ts">
import { BButton, BFormSelect, BSpinner } from 'bootstrap-vue-next'
import { computed, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api, list, saveText } from '../api/client'
import type { ReportedRestore, Restore } from '../api/types'
import ProblemAlert from '../components/ProblemAlert.vue'
import StateWord from '../components/StateWord.vue'
import { useAddress } from '../composables/useAddress'
import { useEvents } from '../composables/useEvents'
import { useLoad } from '../composables/useLoad'
import { csv } from '../logic/csv'
import { count, moment, size } from '../logic/format'
import { noteText, restoreWords, scopeText } from '../logic/restore'
import { PERIODS, PURPOSES, sinceOf } from '../logic/restoreList'

const { shown, show } = useAddress(['period', 'purpose', 'after'] as const)
const query = computed(() => ({ since: sinceOf(shown.value.period, new Date()), purpose: (shown.value.purpose || undefined) as Restore['purpose'] | undefined }))
const { data, problem, loading, reload } = useLoad(() => answer(api.GET('/api/v1/restores', { params: { query: { ...query.value, most: 100, after: shown.value.after || undefined } } })))
useEvents((event) => void (event.what === 'restore' && reload()), reload)
watch(shown, () => void reload(), { immediate: true })

const what = ({ restore }: ReportedRestore) => (restore.purpose === 'restore' ? `${restoreWords(restore)} (${scopeText(restore)})` : restoreWords(restore))
async function exportShown() {
  const all = await list((mark) => api.GET('/api/v1/restores', { params: { query: { ...query.value, ...mark } } }))
  const rows = all.map((line) => [line.restore.started, line.name, line.login, what(line), line.restore.outcome, String(line.restore.progress.files_done), String(line.restore.progress.bytes_done), noteText(line.restore)])
  saveText('restores.csv', 'text/csv', csv([['Began', 'Workstation', 'Login', 'What', 'Outcome', 'Files', 'Bytes', 'Note'], ...rows]))
}
</script>

<template>
  <h1 class="mb-1">Restores</h1>
  <p class="jf-quiet">Whatever was read back from an image store: who, from where, how much, and what came of it.</p>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <div class="d-flex flex-wrap gap-2 mb-3">
    <BFormSelect :model-value="shown.purpose" :options="PURPOSES" size="sm" class="jf-select" aria-label="What" @update:model-value="(purpose) => show({ purpose: String(purpose), after: '' })" />
    <BFormSelect :model-value="shown.period" :options="PERIODS" size="sm" class="jf-select" aria-label="When" @update:model-value="(period) => show({ period: String(period), after: '' })" />
    <BButton size="sm" variant="outline-secondary" class="ms-auto" @click="exportShown">Export as CSV</BButton>
  </div>
  <div v-if="loading && !data" class="jf-quiet"><BSpinner small /> Loading…</div>
  <p v-if="data && !data.items.length" class="jf-panel">There was none. <RouterLink :to="{ name: 'workstations' }">Choose a workstation</RouterLink> to browse its points and restore files.</p>
  <div v-else-if="data" class="jf-panel table-responsive" tabindex="0" role="region" aria-label="Restores">
    <table class="table table-sm align-middle">
      <thead>
        <tr>
          <th scope="col">Began</th>
          <th scope="col">Workstation</th>
          <th scope="col">What</th>
          <th scope="col">Outcome</th>
          <th scope="col" class="jf-number">Files</th>
          <th scope="col" class="jf-number">Size</th>
          <th scope="col">Note</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in data.items" :key="line.restore.id">
          <td class="text-nowrap">{{ moment(line.restore.started) }}</td>
          <th scope="row"><RouterLink :to="{ name: 'workstation', params: { id: line.restore.workstation } }">{{ line.name }}</RouterLink></th>
          <td>{{ what(line) }}</td>
          <td><StateWord :state="line.restore.outcome" /></td>
          <td class="jf-number">{{ count(line.restore.progress.files_done) }}</td>
          <td class="jf-number">{{ size(line.restore.progress.bytes_done) }}</td>
          <td class="jf-quiet">{{ noteText(line.restore) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <div class="mt-2 d-flex gap-2">
    <BButton v-if="shown.after" size="sm" variant="outline-secondary" @click="show({ after: '' })">Latest</BButton>
    <BButton v-if="data?.next" size="sm" variant="outline-secondary" @click="show({ after: data.next })">Older</BButton>
  </div>
</template>
