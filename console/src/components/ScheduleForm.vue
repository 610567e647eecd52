<script setup lang="ts">
import { BButton, BFormGroup, BFormInput, BFormInvalidFeedback, BFormSelect, BSpinner } from 'bootstrap-vue-next'
import { computed, onMounted, ref, useId } from 'vue'
import { answer, api, at, since } from '../api/client'
import type { OwnSchedule } from '../api/types'
import { useEdit } from '../composables/useEdit'
import { useLoad } from '../composables/useLoad'
import { RHYTHMS, faults, fromFields, rhythmText, settingsLines, toFields } from '../logic/schedule'
import EditAlert from './EditAlert.vue'
import ProblemAlert from './ProblemAlert.vue'

/** Sets the schedule of a workstation, a group or a destination. What is left open is set by somebody else, or is the default. */
const props = defineProps<{ of: 'workstations' | 'groups' | 'destinations'; subject: string; name: string }>()
const emit = defineEmits<{ changed: []; cancel: [] }>()

const id = useId()
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
const choice = (value: string, text: string) => ({ value, text })
const rhythms = computed(() => {
  const own = Number(fields.value.rhythm)
  const all = own && !RHYTHMS.includes(own) ? [...RHYTHMS, own].sort((a, b) => a - b) : RHYTHMS
  return [choice('', open.value), ...all.map((seconds) => choice(String(seconds), rhythmText(seconds)))]
})
const battery = computed(() => [choice('', open.value), choice('yes', 'yes'), choice('no', 'no')])
const priority = computed(() => [choice('', open.value), choice('low', 'low: gives way to other work'), choice('normal', 'normal')])
const sending = computed(() => [choice('', open.value), choice('unlimited', 'no limit'), choice('limited', 'at most…')])
const state = (complaint?: string) => (complaint ? false : null)
</script>

<template>
  <form class="mt-3" :aria-label="`Schedule of ${name}`" @submit.prevent="saving.submit">
    <ProblemAlert :problem="loading.problem.value" retry @retry="loading.reload" />
    <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
    <div v-if="!loading.data.value && !loading.problem.value" class="jf-quiet"><BSpinner small /> Loading…</div>
    <div v-if="loading.data.value" class="row g-3">
      <BFormGroup label="How often" :label-for="`${id}-rhythm`" class="col-12 col-md-4">
        <BFormSelect :id="`${id}-rhythm`" v-model="fields.rhythm" :options="rhythms" />
      </BFormGroup>
      <BFormGroup label="When backups may start" :label-for="`${id}-hours`" class="col-12 col-md-4">
        <BFormInput :id="`${id}-hours`" v-model="fields.hours" :state="state(wrong.hours)" :aria-describedby="`${id}-hours-hint`" />
        <BFormInvalidFeedback :state="state(wrong.hours)" role="status">{{ wrong.hours }}</BFormInvalidFeedback>
        <small :id="`${id}-hours-hint`" class="form-text text-body-secondary">Such as 22:00-06:00 by the workstation’s clock, or always. Empty: {{ open }}.</small>
      </BFormGroup>
      <BFormGroup label="On battery" :label-for="`${id}-battery`" class="col-12 col-md-4">
        <BFormSelect :id="`${id}-battery`" v-model="fields.battery" :options="battery" />
      </BFormGroup>
      <BFormGroup label="Priority" :label-for="`${id}-priority`" class="col-12 col-md-4">
        <BFormSelect :id="`${id}-priority`" v-model="fields.priority" :options="priority" />
      </BFormGroup>
      <BFormGroup label="Drill every" :label-for="`${id}-drills`" class="col-12 col-md-4">
        <BFormInput :id="`${id}-drills`" v-model="fields.drillDays" inputmode="numeric" :state="state(wrong.drillDays)" :aria-describedby="`${id}-drills-hint`" />
        <BFormInvalidFeedback :state="state(wrong.drillDays)" role="status">{{ wrong.drillDays }}</BFormInvalidFeedback>
        <small :id="`${id}-drills-hint`" class="form-text text-body-secondary">Days. Empty: {{ open }}.</small>
      </BFormGroup>
      <BFormGroup label="Proof of a secret every" :label-for="`${id}-proofs`" class="col-12 col-md-4">
        <BFormInput :id="`${id}-proofs`" v-model="fields.proofDays" inputmode="numeric" :state="state(wrong.proofDays)" :aria-describedby="`${id}-proofs-hint`" />
        <BFormInvalidFeedback :state="state(wrong.proofDays)" role="status">{{ wrong.proofDays }}</BFormInvalidFeedback>
        <small :id="`${id}-proofs-hint`" class="form-text text-body-secondary">Days. Empty: {{ open }}.</small>
      </BFormGroup>
      <BFormGroup label="Sending" :label-for="`${id}-sending`" class="col-12 col-md-4">
        <BFormSelect :id="`${id}-sending`" v-model="fields.sending" :options="sending" />
      </BFormGroup>
      <template v-if="fields.sending === 'limited'">
        <BFormGroup label="Bytes per second" :label-for="`${id}-rate`" class="col-6 col-md-4">
          <BFormInput :id="`${id}-rate`" v-model="fields.rate" :state="state(wrong.rate)" />
          <BFormInvalidFeedback :state="state(wrong.rate)" role="status">{{ wrong.rate }}</BFormInvalidFeedback>
        </BFormGroup>
        <BFormGroup label="When that applies" :label-for="`${id}-rate-hours`" class="col-6 col-md-4">
          <BFormInput :id="`${id}-rate-hours`" v-model="fields.rateHours" :state="state(wrong.rateHours)" />
          <BFormInvalidFeedback :state="state(wrong.rateHours)" role="status">{{ wrong.rateHours }}</BFormInvalidFeedback>
        </BFormGroup>
      </template>
    </div>
    <div class="mt-3 d-flex gap-2">
      <BButton type="submit" variant="primary" :disabled="saving.busy.value || !loading.data.value || Object.keys(wrong).length > 0">Save schedule</BButton>
      <BButton variant="outline-secondary" @click="emit('cancel')">Cancel</BButton>
    </div>
  </form>
</template>
