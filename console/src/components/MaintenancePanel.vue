<script setup lang="ts">
import { BButton, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { answer, api, ProblemError, since } from '../api/client'
import type { NewBackups } from '../api/types'
import { useEvents } from '../composables/useEvents'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { many, moment } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** Pausing and resuming backups and restores. What a change does to what is underway is said before. */
defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/maintenance')))
useEvents((event) => void (event.what === 'office' && reload()), reload)

const until = ref('')
let wanted: { backups: NewBackups; restores: boolean } | undefined
const setting = useForm(async () => {
  if (!wanted) return
  try {
    data.value = await answer(api.PUT('/api/v1/maintenance', { body: wanted, ...since(data.value?.version) }))
  } catch (error) {
    // Whoever decides again sees what is let in now.
    if (error instanceof ProblemError && error.is('changed-meanwhile')) await reload()
    throw error
  }
})
function set(backups: NewBackups, restores: boolean) {
  wanted = { backups, restores }
  void setting.submit()
}
function pause() {
  if (data.value) set({ state: 'paused', until: new Date(until.value).toISOString() }, data.value.restores)
}
const running = computed(() => {
  const names = data.value?.running ?? []
  return names.length ? `Runs underway come to their end: ${names.join(', ')}.` : 'No run is underway.'
})
onMounted(reload)
</script>

<template>
  <section class="jf-panel mb-4" aria-labelledby="maintenance">
    <h2 id="maintenance">Maintenance</h2>
    <ProblemAlert :problem="problem ?? setting.problem.value" retry @retry="reload" />
    <template v-if="data">
      <p class="mb-2" role="status">
        <strong v-if="data.backups.state === 'on'">New backups are accepted.</strong>
        <strong v-else-if="data.backups.state === 'paused'">New backups are paused until {{ moment(data.backups.until) }}.</strong>
        <strong v-else>New backups are paused until you resume them.</strong>
        {{ data.restores ? 'New restores are accepted.' : 'New restores are paused until you resume them.' }}
        {{ running }} {{ data.restoring ? `${many(data.restoring, 'restore')} underway.` : '' }}
      </p>
      <div v-if="mayChange" class="d-flex flex-wrap gap-2 align-items-end">
        <BButton v-if="data.backups.state !== 'on'" variant="primary" @click="set({ state: 'on' }, data.restores)">Resume backups</BButton>
        <template v-else>
          <form class="d-flex flex-wrap gap-2 align-items-end" @submit.prevent="pause">
            <BFormGroup label="Pause backups until" label-for="pause-until"><BFormInput id="pause-until" v-model="until" type="datetime-local" required /></BFormGroup>
            <BButton type="submit" variant="outline-secondary">Pause</BButton>
          </form>
          <BButton variant="outline-secondary" @click="set({ state: 'off' }, data.restores)">Pause backups until resumed</BButton>
        </template>
        <BButton variant="outline-secondary" @click="set(data.backups, !data.restores)">{{ data.restores ? 'Pause restores' : 'Resume restores' }}</BButton>
      </div>
    </template>
  </section>
</template>
