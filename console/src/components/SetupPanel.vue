<script setup lang="ts">
import { BButton, BFormInput } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api, at } from '../api/client'
import type { Step, StepLine } from '../api/types'
import { useEvents } from '../composables/useEvents'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { words } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'
import StateWord from './StateWord.vue'

/** The set-up list: what is decided, what is not, and whose move it is. It goes away when nothing is left to do. */
defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/setup')))
useEvents((event) => void (event.what !== 'run' && event.what !== 'job' && reload()), reload)

/** Where a step is done. */
const WHERE: Partial<Record<Step, { name: string; params?: { tab: string }; text: string }>> = {
  storage: { name: 'storage', text: 'storage' },
  people: { name: 'people', text: 'people' },
  encryption: { name: 'storage', text: 'storage' },
  access: { name: 'access', text: 'access' },
  limits: { name: 'storage', text: 'storage' },
  second_factor: { name: 'me', text: 'your account' },
  discovery: { name: 'setup', params: { tab: 'discovery' }, text: 'discovery' },
  mail: { name: 'setup', params: { tab: 'mail' }, text: 'mail' },
  maintenance: { name: 'setup', params: { tab: 'maintenance' }, text: 'maintenance' },
  first_machine: { name: 'codes', text: 'enrolment codes' },
}
const STATES = { done: 'done', open: 'to do', dismissed: 'dismissed' }
const all = ref(false)
const dismissing = ref<StepLine>()
const why = ref('')
const open = computed(() => data.value?.steps.filter((line) => line.state === 'open') ?? [])
const shown = computed(() => (all.value ? (data.value?.steps ?? []) : open.value))

const dismiss = useForm(async () => {
  if (dismissing.value) data.value = await answer(api.PUT('/api/v1/setup/{id}/dismissed', { ...at({ id: dismissing.value.step }), body: { why: why.value } }))
  dismissing.value = undefined
  why.value = ''
})
const restore = useForm(async () => {
  if (dismissing.value) data.value = await answer(api.DELETE('/api/v1/setup/{id}/dismissed', at({ id: dismissing.value.step })))
  dismissing.value = undefined
})
function restoreStep(line: StepLine) {
  dismissing.value = line
  void restore.submit()
}
onMounted(reload)
</script>

<template>
  <section v-if="data" class="jf-panel mb-4" aria-labelledby="setup">
    <div class="d-flex align-items-baseline gap-3">
      <h2 id="setup" class="mb-0">{{ data.ready ? 'Ready' : 'Not ready yet' }}</h2>
      <span class="jf-quiet">{{ data.ready ? 'Nothing is left to do.' : `${open.length} of ${data.steps.length} steps to do` }}</span>
      <BButton size="sm" variant="outline-secondary" class="ms-auto" :aria-expanded="all" @click="all = !all">{{ all ? 'Only what is to do' : 'All steps' }}</BButton>
    </div>
    <ProblemAlert :problem="problem ?? dismiss.problem.value ?? restore.problem.value" class="mt-2" />
    <ol v-if="shown.length" class="jf-steps">
      <li v-for="line in shown" :key="line.step">
        <StateWord :state="STATES[line.state]" />
        <strong>{{ words(line.step) }}</strong>
        <span>{{ line.says }}</span>
        <span v-if="line.dismissed" class="jf-quiet">{{ line.dismissed.by }}: {{ line.dismissed.why }}</span>
        <span v-else-if="line.next" class="jf-quiet">{{ line.at_a_workstation ? 'At the workstation' : 'Next' }}: {{ line.next }}</span>
        <RouterLink v-if="line.state === 'open' && WHERE[line.step]" :to="WHERE[line.step] ?? {}">Go to {{ WHERE[line.step]?.text }}</RouterLink>
        <template v-if="mayChange">
          <form v-if="dismissing?.step === line.step && line.state === 'open'" class="d-flex gap-2 ms-auto" @submit.prevent="dismiss.submit">
            <BFormInput v-model="why" size="sm" required maxlength="200" :aria-label="`Why ${words(line.step)} is dismissed`" placeholder="Why?" autofocus />
            <BButton size="sm" type="submit" variant="primary">Dismiss</BButton>
            <BButton size="sm" variant="outline-secondary" @click="dismissing = undefined">Cancel</BButton>
          </form>
          <BButton v-else-if="line.state === 'open' && line.can_be_dismissed" size="sm" class="ms-auto" variant="outline-secondary" :aria-label="`Dismiss: ${words(line.step)}`" @click="dismissing = line">Dismiss</BButton>
          <BButton v-else-if="line.state === 'dismissed'" size="sm" class="ms-auto" variant="outline-secondary" :aria-label="`Restore: ${words(line.step)}`" @click="restoreStep(line)">Restore</BButton>
        </template>
      </li>
    </ol>
  </section>
</template>
