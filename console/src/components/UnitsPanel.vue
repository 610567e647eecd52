<script setup lang="ts">
import { BFormGroup, BFormRadioGroup } from 'bootstrap-vue-next'
import { answer, api } from '../api/client'
import type { Units } from '../api/types'
import { useForm } from '../composables/useForm'
import { units } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** The one choice of units, for all of the office. */
const OPTIONS = [
  { value: 'decimal', text: 'decimal: 1 GB is 1,000,000,000 bytes' },
  { value: 'binary', text: 'binary: 1 GiB is 1,073,741,824 bytes' },
]
let wanted: Units | undefined
const saving = useForm(async () => {
  if (wanted) await answer(api.PUT('/api/v1/settings', { body: { units: wanted } }))
})
function choose(to: unknown) {
  wanted = to === 'binary' ? 'binary' : 'decimal'
  void saving.submit()
}
</script>

<template>
  <section class="jf-panel mb-4" aria-labelledby="units">
    <h2 id="units">Units</h2>
    <ProblemAlert :problem="saving.problem.value" />
    <BFormGroup label="Sizes are shown, here and by every command, in units that are" label-class="pb-1">
      <BFormRadioGroup :model-value="units" :options="OPTIONS" name="units" @update:model-value="choose" />
    </BFormGroup>
    <p class="jf-quiet small mb-0">You can type sizes in either.</p>
  </section>
</template>
