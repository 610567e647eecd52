<script setup lang="ts">
import { BButton, BFormInput } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { get, put, remove } from '../api/client'
import type { SettingUp, Step, StepLine } from '../api/types'
import { useEvents } from '../composables/useEvents'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { words } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'
import StateWord from './StateWord.vue'

/** The set-up list: what is decided, what is not, and whose move it is. It goes away when nothing is open. */
defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(() => get<SettingUp>('/setting-up'))
useEvents((event) => void (event.what !== 'run' && event.what !== 'job' && reload()), reload)

const WHERE: Partial<Record<Step, string>> = {
  storage: 'storage',
  people: 'people',
  encryption: 'storage',
  access: 'access',
  limits: 'storage',
  second_factor: 'me',
  discovery: 'machines',
  mail: 'activity',
  admission: 'activity',
  first_machine: 'machines',
}
const STATES = { done: 'done', open: 'to do', settled: 'left as it is' }
const all = ref(false)
const settling = ref<StepLine>()
const why = ref('')
const open = computed(() => data.value?.steps.filter((line) => line.state === 'open') ?? [])
const shown = computed(() => (all.value ? (data.value?.steps ?? []) : open.value))

const settle = useForm(async () => {
  data.value = (await put<SettingUp>(`/setting-up/${settling.value?.step}/settled`, { why: why.value })) as SettingUp
  settling.value = undefined
  why.value = ''
})
const reopen = useForm(async () => {
  data.value = await remove<SettingUp>(`/setting-up/${settling.value?.step}/settled`)
  settling.value = undefined
})
function openAgain(line: StepLine) {
  settling.value = line
  void reopen.submit()
}
onMounted(reload)
</script>

<template>
  <section v-if="data" class="jf-panel mb-4" aria-labelledby="setting-up">
    <div class="d-flex align-items-baseline gap-3">
      <h2 id="setting-up" class="mb-0">{{ data.ready ? 'Ready' : 'Not ready yet' }}</h2>
      <span class="jf-quiet">{{ data.ready ? 'Everything is decided.' : `${open.length} of ${data.steps.length} steps are open` }}</span>
      <BButton size="sm" variant="outline-secondary" class="ms-auto" :aria-expanded="all" @click="all = !all">{{ all ? 'Only what is open' : 'All steps' }}</BButton>
    </div>
    <ProblemAlert :problem="problem ?? settle.problem.value ?? reopen.problem.value" class="mt-2" />
    <ol v-if="shown.length" class="jf-steps">
      <li v-for="line in shown" :key="line.step">
        <StateWord :state="STATES[line.state]" />
        <strong>{{ words(line.step) }}</strong>
        <span>{{ line.says }}</span>
        <span v-if="line.settled" class="jf-quiet">{{ line.settled.by }}: {{ line.settled.why }}</span>
        <span v-else-if="line.next" class="jf-quiet">{{ line.at_a_workstation ? 'At the workstation' : 'Next' }}: {{ line.next }}</span>
        <RouterLink v-if="line.state === 'open' && WHERE[line.step]" :to="{ name: WHERE[line.step] }">Go to {{ WHERE[line.step] === 'me' ? 'your account' : WHERE[line.step] }}</RouterLink>
        <template v-if="mayChange">
          <form v-if="settling?.step === line.step && line.state === 'open'" class="d-flex gap-2 ms-auto" @submit.prevent="settle.submit">
            <BFormInput v-model="why" size="sm" required maxlength="200" :aria-label="`Why ${words(line.step)} is left as it is`" placeholder="Why?" autofocus />
            <BButton size="sm" type="submit" variant="primary">Leave it</BButton>
            <BButton size="sm" variant="outline-secondary" @click="settling = undefined">Cancel</BButton>
          </form>
          <BButton v-else-if="line.state === 'open' && line.may_be_settled" size="sm" class="ms-auto" variant="outline-secondary" :aria-label="`Leave as it is: ${words(line.step)}`" @click="settling = line">Leave as it is</BButton>
          <BButton v-else-if="line.state === 'settled'" size="sm" class="ms-auto" variant="outline-secondary" :aria-label="`Open again: ${words(line.step)}`" @click="openAgain(line)">Open again</BButton>
        </template>
      </li>
    </ol>
  </section>
</template>
