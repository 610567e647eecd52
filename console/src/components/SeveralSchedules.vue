<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { ProblemError, answer, api, at, since } from '../api/client'
import type { ScheduleSettings, Workstation } from '../api/types'
import { many } from '../logic/format'
import { faults, fromFields, settingsText, toFields } from '../logic/schedule'
import ScheduleFields from './ScheduleFields.vue'

/** Changes the schedule of several workstations: what is filled in is set for each of them, what is open stays as it is. */
const props = defineProps<{ workstations: Workstation[] }>()
const emit = defineEmits<{ done: []; cancel: [] }>()

// Which they are was decided when the form was opened: a list that changes meanwhile changes nothing.
const chosen = [...props.workstations]
const fields = ref(toFields({}))
const settings = computed(() => fromFields(fields.value))
const isReady = computed(() => Object.keys(settings.value).length > 0 && Object.keys(faults(fields.value)).length === 0)
const done = ref(0)
const failed = ref<{ name: string; why: string }[]>([])
const busy = ref(false)
const isOver = ref(false)

async function setFor(w: Workstation, to: ScheduleSettings, again = true): Promise<void> {
  const here = at({ id: w.id })
  const own = await answer(api.GET('/api/v1/workstations/{id}/schedule', here))
  try {
    await answer(api.PUT('/api/v1/workstations/{id}/schedule', { ...here, body: { ...own.settings, ...to }, ...since(own.version) }))
  } catch (error) {
    // Somebody else changed something of it since: what is set here goes over what is there now.
    if (!again || !(error instanceof ProblemError && error.is('changed-meanwhile'))) throw error
    await setFor(w, to, false)
  }
}

async function save() {
  busy.value = true
  const to = settings.value
  failed.value = []
  done.value = 0
  for (const w of chosen) {
    try {
      await setFor(w, to)
    } catch (error) {
      failed.value.push({ name: w.name, why: error instanceof Error ? error.message : String(error) })
    }
    done.value += 1
  }
  busy.value = false
  isOver.value = true
  if (!failed.value.length) emit('done')
}
</script>

<template>
  <form class="jf-panel mb-3" aria-labelledby="several" @submit.prevent="save">
    <h2 id="several">Schedule of {{ many(chosen.length, 'workstation') }}</h2>
    <p class="jf-quiet">{{ chosen.map((w) => w.name).join(', ') }}</p>
    <ScheduleFields v-model="fields" open="as it is" />
    <p v-if="isReady" class="mt-3 mb-0">For each of them: {{ settingsText(settings) }}.</p>
    <div class="mt-3 d-flex gap-2 align-items-center">
      <BButton type="submit" variant="primary" :disabled="busy || !isReady">Save for {{ many(chosen.length, 'workstation') }}</BButton>
      <BButton variant="outline-secondary" :disabled="busy" @click="isOver ? emit('done') : emit('cancel')">{{ isOver ? 'Close' : 'Cancel' }}</BButton>
      <span role="status" class="jf-quiet">{{ busy || isOver ? `${done} of ${chosen.length} done` : '' }}</span>
    </div>
    <ul v-if="failed.length" class="jf-bad mt-3 mb-0" role="alert">
      <li v-for="one in failed" :key="one.name">{{ one.name }}: {{ one.why }}</li>
    </ul>
  </form>
</template>
