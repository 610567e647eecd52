<script setup lang="ts">
import { BButton, BSpinner } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { answer, api, at, since } from '../api/client'
import type { OwnSchedule } from '../api/types'
import { useEdit } from '../composables/useEdit'
import { useLoad } from '../composables/useLoad'
import { faults, fromFields, settingsLines, toFields } from '../logic/schedule'
import EditAlert from './EditAlert.vue'
import ProblemAlert from './ProblemAlert.vue'
import ScheduleFields from './ScheduleFields.vue'

/** Sets the schedule of a workstation, a group or a destination. What is left open is set by somebody else, or is the default. */
const props = defineProps<{ of: 'workstations' | 'groups' | 'destinations'; subject: string; name: string }>()
const emit = defineEmits<{ changed: []; cancel: [] }>()

const here = at({ id: props.subject })
const paths = {
  workstations: '/api/v1/workstations/{id}/schedule',
  groups: '/api/v1/groups/{id}/schedule',
  destinations: '/api/v1/destinations/{id}/schedule',
} as const
const read = (): Promise<OwnSchedule> => answer(api.GET(paths[props.of], here))

const fields = ref(toFields({}))
const wrong = computed(() => faults(fields.value))
const loading = useLoad(read)
const saving = useEdit<OwnSchedule>({
  load: read,
  version: (own) => own.version,
  fill: (own) => (fields.value = toFields(own.settings)),
  lines: (own) => settingsLines(own.settings),
  mine: () => settingsLines(fromFields(fields.value)),
  save: async (version) => {
    await answer(api.PUT(paths[props.of], { ...here, body: fromFields(fields.value), ...since(version) }))
    emit('changed')
  },
})
onMounted(async () => {
  await loading.reload()
  if (loading.data.value) saving.begin(loading.data.value)
})

const open = computed(() =>
  props.of === 'workstations' ? 'as its group or destination' : props.of === 'groups' ? 'as the destination' : 'default',
)
</script>

<template>
  <form class="mt-3" :aria-label="`Schedule of ${name}`" @submit.prevent="saving.submit">
    <ProblemAlert :problem="loading.problem.value" retry @retry="loading.reload" />
    <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
    <div v-if="!loading.data.value && !loading.problem.value" class="jf-quiet"><BSpinner small /> Loading…</div>
    <ScheduleFields v-if="loading.data.value" v-model="fields" :open="open" />
    <div class="mt-3 d-flex gap-2">
      <BButton type="submit" variant="primary" :disabled="saving.busy.value || !loading.data.value || Object.keys(wrong).length > 0">Save schedule</BButton>
      <BButton variant="outline-secondary" @click="emit('cancel')">Cancel</BButton>
    </div>
  </form>
</template>
