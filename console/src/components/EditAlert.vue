<script setup lang="ts">
import { BAlert, BButton } from 'bootstrap-vue-next'
import { nextTick, useTemplateRef, watch } from 'vue'
import type { Problem } from '../api/types'
import type { Difference } from '../logic/edit'
import ProblemAlert from './ProblemAlert.vue'

/** What was wrong with a form that was sent; if somebody else was faster, both versions and the choice between them. */
const props = defineProps<{ problem?: Problem; differing?: Difference[]; busy: boolean }>()
const emit = defineEmits<{ mine: []; theirs: [] }>()

// A form may be longer than the window: whoever pressed its button at the end is taken to what is said at its beginning.
const place = useTemplateRef('place')
watch(
  () => props.problem,
  async (problem) => {
    if (!problem) return
    await nextTick()
    place.value?.scrollIntoView({ block: 'center' })
    place.value?.focus({ preventScroll: true })
  },
)
</script>

<template>
  <div ref="place" tabindex="-1">
    <BAlert v-if="problem && differing" :model-value="true" variant="warning" class="mb-3">
      <strong>{{ problem.title }}</strong>
      <template v-if="differing.length">
        <div class="table-responsive">
          <table class="table table-sm my-2">
            <thead>
              <tr>
                <th scope="col"><span class="visually-hidden">Field</span></th>
                <th scope="col">As it is now</th>
                <th scope="col">Yours</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="d in differing" :key="d.label">
                <th scope="row">{{ d.label }}</th>
                <td>{{ d.theirs || '–' }}</td>
                <td>{{ d.mine || '–' }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <div class="d-flex flex-wrap gap-2">
          <BButton size="sm" variant="primary" :disabled="busy" @click="emit('mine')">Save mine</BButton>
          <BButton size="sm" variant="outline-secondary" :disabled="busy" @click="emit('theirs')">Keep the current settings</BButton>
        </div>
      </template>
      <div v-else>It is set as you want it. <BButton size="sm" variant="outline-secondary" class="ms-2" @click="emit('theirs')">Close</BButton></div>
    </BAlert>
    <ProblemAlert v-else :problem="problem" />
  </div>
</template>
