<script setup lang="ts">
import { BFormCheckbox, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { computed, useId } from 'vue'
import type { Retention, Rule } from '../api/types'
import { RULE_STEPS, USUAL_RULE } from '../logic/retention'

/** Retention: everything, or the steps of a rule. */
const retention = defineModel<Retention>({ required: true })
const id = useId()
const everything = computed({
  get: () => retention.value.kind === 'everything',
  set: (all) => (retention.value = all ? { kind: 'everything' } : { kind: 'thinned', ...USUAL_RULE }),
})

function set(step: keyof Rule, value: string | number | null) {
  if (retention.value.kind === 'everything') return
  retention.value = { ...retention.value, [step]: Math.max(0, Math.trunc(Number(value)) || 0) }
}
</script>

<template>
  <fieldset>
    <legend class="fs-6">Retention</legend>
    <BFormCheckbox v-model="everything">Everything</BFormCheckbox>
    <div v-if="retention.kind === 'thinned'" class="row g-2 mt-1">
      <BFormGroup v-for="step in RULE_STEPS" :key="step.key" :label="step.label" :label-for="`${id}-${step.key}`" :description="step.means" class="col-4 col-xl-2">
        <BFormInput
          :id="`${id}-${step.key}`"
          type="number"
          min="0"
          max="100000"
          :model-value="retention[step.key] ?? 0"
          @update:model-value="set(step.key, $event)"
        />
      </BFormGroup>
    </div>
  </fieldset>
</template>
