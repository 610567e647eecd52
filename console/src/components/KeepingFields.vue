<script setup lang="ts">
import { BFormCheckbox, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { computed, useId } from 'vue'
import type { Keeping, Rule } from '../api/types'
import { RULE_STEPS, USUAL_RULE } from '../logic/keeping'

/** What is kept: everything, or the steps of a rule. */
const keeping = defineModel<Keeping>({ required: true })
const id = useId()
const everything = computed({
  get: () => keeping.value.kind === 'everything',
  set: (all) => (keeping.value = all ? { kind: 'everything' } : { kind: 'thinned', ...USUAL_RULE }),
})

function set(step: keyof Rule, value: string | number | null) {
  if (keeping.value.kind === 'everything') return
  keeping.value = { ...keeping.value, [step]: Math.max(0, Math.trunc(Number(value)) || 0) }
}
</script>

<template>
  <fieldset>
    <legend class="fs-6">Points that are kept</legend>
    <BFormCheckbox v-model="everything">Everything</BFormCheckbox>
    <div v-if="keeping.kind === 'thinned'" class="row g-2 mt-1">
      <BFormGroup v-for="step in RULE_STEPS" :key="step.key" :label="step.label" :label-for="`${id}-${step.key}`" :description="step.means" class="col-4 col-xl-2">
        <BFormInput
          :id="`${id}-${step.key}`"
          type="number"
          min="0"
          max="100000"
          :model-value="keeping[step.key] ?? 0"
          @update:model-value="set(step.key, $event)"
        />
      </BFormGroup>
    </div>
  </fieldset>
</template>
