<script setup lang="ts">
import { BButton, BFormGroup, BFormSelect } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api, at } from '../api/client'
import type { Workstation } from '../api/types'
import { useForm } from '../composables/useForm'
import { late, nextRunSentence, waits } from '../logic/agent'
import { age, many, moment } from '../logic/format'
import { applied } from '../logic/schedule'
import ProblemAlert from './ProblemAlert.vue'
import ScheduleForm from './ScheduleForm.vue'

/** When a workstation is backed up, who set that, and what an administrator can ask of it now. */
const props = defineProps<{ workstation: Workstation; now: Date; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const here = computed(() => at({ id: props.workstation.id }))
const changing = ref(false)
const pausing = ref(false)
const hours = ref(24)
const LENGTHS = [
  { value: 2, text: 'for 2 hours' },
  { value: 24, text: 'for a day' },
  { value: 72, text: 'for 3 days' },
  { value: 168, text: 'for a week' },
  { value: 744, text: 'for 31 days' },
]

function form(send: () => Promise<unknown>) {
  return useForm(async () => {
    await send()
    pausing.value = false
    emit('changed')
  })
}
const asking = form(() => answer(api.PUT('/api/v1/workstations/{id}/asked-backup', here.value)))
const takingBack = form(() => answer(api.DELETE('/api/v1/workstations/{id}/asked-backup', here.value)))
const pause = form(() => {
  // A minute less, for clocks that differ.
  const until = new Date(props.now.getTime() + hours.value * 3_600_000 - 60_000).toISOString()
  return answer(api.PUT('/api/v1/workstations/{id}/pause', { ...here.value, body: { until } }))
})
const resuming = form(() => answer(api.DELETE('/api/v1/workstations/{id}/pause', here.value)))
const all = [asking, takingBack, pause, resuming]
const problem = computed(() => all.map((f) => f.problem.value).find(Boolean))
const busy = computed(() => all.some((f) => f.busy.value))
const hasMachine = computed(() => !['retired', 'unclaimed'].includes(props.workstation.state))
function saved() {
  changing.value = false
  emit('changed')
}
</script>

<template>
  <section class="jf-panel mb-3" aria-labelledby="schedule">
    <h2 id="schedule">Schedule</h2>
    <ProblemAlert :problem="problem" />
    <p class="mb-2" :class="{ 'jf-bad': late(workstation.agent) }">
      {{ workstation.agent ? nextRunSentence(workstation, now) : 'No agent has reported from this workstation: it is backed up when somebody does it by hand.' }}
    </p>
    <p v-if="workstation.failures > 0" class="mb-2 jf-bad">{{ many(workstation.failures, 'run') }} failed since the last complete one. <RouterLink :to="{ name: 'workstation', params: { id: workstation.id, tab: 'history' } }">The history</RouterLink> says why.</p>
    <p v-if="workstation.asked" class="jf-note">
      {{ workstation.asked.by }} asked for a backup {{ age(workstation.asked.at, now) }}. {{ waits(workstation.agent, now) }}
      <BButton v-if="mayChange" size="sm" variant="outline-secondary" class="ms-2" :disabled="busy" @click="takingBack.submit">Take back</BButton>
    </p>
    <p v-if="workstation.paused" class="jf-note">
      Paused by {{ workstation.paused.by }} until {{ moment(workstation.paused.until) }}.
      <BButton v-if="mayChange" size="sm" variant="outline-secondary" class="ms-2" :disabled="busy" @click="resuming.submit">Resume</BButton>
    </p>
    <dl class="jf-facts">
      <div v-for="line in applied(workstation.schedule)" :key="line.what">
        <dt>{{ line.what }}</dt>
        <dd>
          {{ line.value }} <span class="jf-quiet">({{ line.by }})</span>
        </dd>
      </div>
    </dl>
    <ScheduleForm v-if="changing" :subject="workstation.id" of="workstations" :name="workstation.name" @changed="saved" @cancel="changing = false" />
    <form v-else-if="pausing" class="d-flex flex-wrap gap-2 align-items-end" @submit.prevent="pause.submit">
      <BFormGroup label="Pause backups" label-for="pause-hours"><BFormSelect id="pause-hours" v-model="hours" :options="LENGTHS" /></BFormGroup>
      <BButton type="submit" variant="primary" :disabled="busy">Pause</BButton>
      <BButton variant="outline-secondary" @click="pausing = false">Cancel</BButton>
    </form>
    <div v-else-if="mayChange" class="d-flex flex-wrap gap-2 mt-3">
      <BButton v-if="hasMachine && !workstation.asked" size="sm" variant="outline-secondary" :disabled="busy" @click="asking.submit">Back up now</BButton>
      <BButton v-if="hasMachine && !workstation.paused" size="sm" variant="outline-secondary" @click="pausing = true">Pause…</BButton>
      <BButton size="sm" variant="outline-secondary" @click="changing = true">Change schedule</BButton>
    </div>
  </section>
</template>
