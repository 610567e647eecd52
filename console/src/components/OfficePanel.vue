<script setup lang="ts">
import { BButton, BFormCheckbox, BFormGroup, BFormInput, BFormRadioGroup } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { answer, api } from '../api/client'
import type { OfficeSettings } from '../api/types'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { units } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** What is set for all of the office: units, how many backups run at once, and who enrols machines. */
const OPTIONS = [
  { value: 'decimal', text: 'decimal: 1 GB is 1,000,000,000 bytes' },
  { value: 'binary', text: 'binary: 1 GiB is 1,073,741,824 bytes' },
]
const atOnce = ref<string | number>('')
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/settings')))
const fill = (settings?: OfficeSettings) => (atOnce.value = settings?.runs_at_once ?? '')
let wanted: Partial<OfficeSettings> = {}
const saving = useForm(async () => {
  // What the other field sets is read just before, not when the page was opened.
  const now = await answer(api.GET('/api/v1/settings'))
  data.value = await answer(api.PUT('/api/v1/settings', { body: { ...now, ...wanted } }))
  fill(data.value)
})
function chooseUnits(to: unknown) {
  wanted = { units: to === 'binary' ? 'binary' : 'decimal' }
  void saving.submit()
}
const number = computed(() => (String(atOnce.value).trim() === '' ? null : Number(atOnce.value)))
const isWrong = computed(() => number.value !== null && !(Number.isInteger(number.value) && number.value >= 1 && number.value <= 1000))
function saveNumber() {
  wanted = { runs_at_once: number.value }
  void saving.submit()
}
function letPeopleEnrol(to: unknown) {
  wanted = { own_machines: to === true }
  void saving.submit()
}
onMounted(async () => {
  await reload()
  fill(data.value)
})
</script>

<template>
  <section class="jf-panel mb-4" aria-labelledby="office">
    <h2 id="office">Office</h2>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <ProblemAlert :problem="saving.problem.value" />
    <BFormGroup label="Sizes are shown, here and by every command, in units that are" label-class="pb-1">
      <BFormRadioGroup :model-value="units" :options="OPTIONS" name="units" @update:model-value="chooseUnits" />
    </BFormGroup>
    <p class="jf-quiet small">You can type sizes in either.</p>
    <form class="d-flex flex-wrap gap-2 align-items-end" @submit.prevent="saveNumber">
      <BFormGroup label="Backups at once" label-for="at-once">
        <BFormInput id="at-once" v-model="atOnce" inputmode="numeric" :state="isWrong ? false : null" aria-describedby="at-once-hint" />
      </BFormGroup>
      <BButton type="submit" variant="outline-secondary" :disabled="saving.busy.value || isWrong">Save</BButton>
      <small id="at-once-hint" class="form-text text-body-secondary w-100">1 to 1000. Empty: as many as the measured rate allows, 16 at most. The others wait in the queue.</small>
    </form>
    <BFormCheckbox
      class="mt-3"
      switch
      :model-value="data?.own_machines ?? false"
      :disabled="!data || saving.busy.value"
      aria-describedby="own-machines-hint"
      @update:model-value="letPeopleEnrol"
    >
      People enrol their own machines
    </BFormCheckbox>
    <small id="own-machines-hint" class="form-text text-body-secondary">
      Whoever has an account joins by signing in, without a code from an administrator: five machines each at most, encrypted, on destinations they have access to.
    </small>
  </section>
</template>
