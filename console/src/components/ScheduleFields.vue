<script setup lang="ts">
import { BFormCheckbox, BFormCheckboxGroup, BFormGroup, BFormInput, BFormInvalidFeedback, BFormSelect } from 'bootstrap-vue-next'
import { computed, useId } from 'vue'
import { RHYTHMS, TEMPLATES, faults, rhythmText, type ScheduleFields } from '../logic/schedule'

/** The fields of a schedule. `open` says what an empty one means. */
const props = defineProps<{ open: string }>()
const fields = defineModel<ScheduleFields>({ required: true })

const id = useId()
const wrong = computed(() => faults(fields.value))
const choice = (value: string, text: string) => ({ value, text })
const rhythms = computed(() => {
  const own = Number(fields.value.rhythm)
  const all = own && !RHYTHMS.includes(own) ? [...RHYTHMS, own].sort((a, b) => a - b) : RHYTHMS
  return [choice('', props.open), ...all.map((seconds) => choice(String(seconds), rhythmText(seconds)))]
})
const yesOrNo = computed(() => [choice('', props.open), choice('yes', 'yes'), choice('no', 'no')])
const priority = computed(() => [choice('', props.open), choice('low', 'low: gives way to other work'), choice('normal', 'normal')])
const sending = computed(() => [choice('', props.open), choice('unlimited', 'no limit'), choice('limited', 'at most…')])
const leavingOut = computed(() => [choice('', props.open), choice('set', 'what is ticked')])
const state = (complaint?: string) => (complaint ? false : null)
</script>

<template>
  <div class="row g-3">
    <BFormGroup label="How often" :label-for="`${id}-rhythm`" class="col-12 col-md-4">
      <BFormSelect :id="`${id}-rhythm`" v-model="fields.rhythm" :options="rhythms" />
    </BFormGroup>
    <BFormGroup label="When backups may start" :label-for="`${id}-hours`" class="col-12 col-md-4">
      <BFormInput :id="`${id}-hours`" v-model="fields.hours" :state="state(wrong.hours)" :aria-describedby="`${id}-hours-hint`" />
      <BFormInvalidFeedback :state="state(wrong.hours)" role="status">{{ wrong.hours }}</BFormInvalidFeedback>
      <small :id="`${id}-hours-hint`" class="form-text text-body-secondary">Such as 22:00-06:00 by the workstation’s clock, or always. Empty: {{ open }}.</small>
    </BFormGroup>
    <BFormGroup label="On battery" :label-for="`${id}-battery`" class="col-12 col-md-4">
      <BFormSelect :id="`${id}-battery`" v-model="fields.battery" :options="yesOrNo" />
    </BFormGroup>
    <BFormGroup label="Over a metered connection" :label-for="`${id}-metered`" class="col-12 col-md-4">
      <BFormSelect :id="`${id}-metered`" v-model="fields.metered" :options="yesOrNo" />
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
    <BFormGroup label="Leave out" :label-for="`${id}-leaving`" class="col-12 col-md-4">
      <BFormSelect :id="`${id}-leaving`" v-model="fields.leavingOut" :options="leavingOut" :aria-describedby="`${id}-leaving-hint`" />
      <small :id="`${id}-leaving-hint`" class="form-text text-body-secondary">Beside what each workstation excludes. What a person includes by name is backed up all the same; points that are there keep what they have.</small>
    </BFormGroup>
    <fieldset v-if="fields.leavingOut === 'set'" class="col-12">
      <legend class="visually-hidden">What to leave out</legend>
      <BFormCheckboxGroup v-model="fields.exclude" class="row gx-3 gy-2">
        <div v-for="{ template, name, why } in TEMPLATES" :key="template" class="col-12 col-md-6 col-xl-4">
          <BFormCheckbox :value="template">{{ name }} <small class="d-block text-body-secondary">{{ why }}</small></BFormCheckbox>
        </div>
      </BFormCheckboxGroup>
    </fieldset>
  </div>
</template>
