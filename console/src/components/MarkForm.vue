<script setup lang="ts">
import { BButton, BFormGroup, BFormInput, BFormRadio } from 'bootstrap-vue-next'
import { ref, useId } from 'vue'
import { answer, api, at } from '../api/client'
import type { Point, PointMark } from '../api/types'
import { useForm } from '../composables/useForm'
import { MARKS } from '../logic/suspects'
import ProblemAlert from './ProblemAlert.vue'

/** Marks a point good, suspect or resolved, with a reason. Somebody else's mark meanwhile is not written over. */
const props = defineProps<{ store: string; point: Point }>()
const emit = defineEmits<{ done: []; cancel: [] }>()

// Nothing is chosen beforehand: a wrong mark lets points go.
const mark = ref<PointMark>()
const reason = ref('')
const why = useId()
const marking = useForm(async () => {
  if (!mark.value) return
  const body = { mark: mark.value, reason: reason.value, seen: props.point.mark?.mark ?? null }
  await answer(api.PUT('/api/v1/stores/{id}/points/{sequence}/mark', { ...at({ id: props.store, sequence: props.point.sequence }), body }))
  emit('done')
})
</script>

<template>
  <form class="jf-form" @submit.prevent="marking.submit">
    <ProblemAlert :problem="marking.problem.value" />
    <fieldset class="mb-2">
      <legend class="fs-6">Mark point {{ point.sequence }} as</legend>
      <BFormRadio v-for="one in MARKS" :key="one.mark" v-model="mark" :value="one.mark" :name="`mark-${why}`" required>
        <strong>{{ one.mark }}</strong> <span class="jf-quiet">{{ one.means }}</span>
      </BFormRadio>
    </fieldset>
    <BFormGroup label="Why" :label-for="why" class="mb-2"><BFormInput :id="why" v-model="reason" size="sm" required maxlength="200" /></BFormGroup>
    <div class="d-flex gap-2">
      <BButton size="sm" type="submit" variant="primary" :disabled="marking.busy.value || !mark">{{ mark ? `Mark ${mark}` : 'Mark' }}</BButton>
      <BButton size="sm" variant="outline-secondary" @click="emit('cancel')">Cancel</BButton>
    </div>
  </form>
</template>
