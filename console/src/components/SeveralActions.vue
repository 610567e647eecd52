<script setup lang="ts">
import { BButton, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import type { Workstation } from '../api/types'
import { many, parseSize } from '../logic/format'
import { preview, type SeveralAction } from '../logic/severalActions'

/** Does something with several workstations, and says for each before what it changes. */
const props = defineProps<{ action: SeveralAction; workstations: Workstation[]; now: Date }>()
const emit = defineEmits<{ done: []; cancel: [] }>()

// Which they are was decided when this was opened: a list that changes meanwhile changes nothing.
const chosen = [...props.workstations]
const limit = ref('')
const hours = ref(8)
const noLimit = computed(() => !limit.value.trim())
const isWrong = computed(() => props.action.key === 'limit' && !noLimit.value && parseSize(limit.value) === undefined)
const choice = computed(() => ({ limit: noLimit.value ? undefined : parseSize(limit.value), hours: hours.value }))
const lines = computed(() => preview(props.action, chosen, choice.value, props.now))
const possible = computed(() => lines.value.filter((line) => !line.not))

const results = ref(new Map<string, string>())
const busy = ref(false)
const isOver = ref(false)
async function start() {
  busy.value = true
  for (const { workstation } of possible.value) {
    const outcome = await props.action.act(workstation, choice.value, props.now).then(
      () => 'done',
      (error: unknown) => (error instanceof Error ? error.message : String(error)),
    )
    results.value = new Map(results.value).set(workstation.id, outcome)
  }
  busy.value = false
  isOver.value = true
}
</script>

<template>
  <form class="jf-panel mb-3" aria-labelledby="several-action" @submit.prevent="start">
    <h2 id="several-action">{{ action.name }}: {{ many(chosen.length, 'workstation') }}</h2>
    <BFormGroup v-if="action.key === 'limit'" label="Limit of each image store" label-for="several-limit" class="jf-narrow mb-3" description="A size such as 250 GB; nothing for no limit.">
      <BFormInput id="several-limit" v-model="limit" :state="isWrong ? false : null" :disabled="busy || isOver" />
    </BFormGroup>
    <BFormGroup v-if="action.key === 'pause'" label="For how many hours" label-for="several-hours" class="jf-narrow mb-3">
      <BFormInput id="several-hours" v-model.number="hours" type="number" min="1" max="744" required :disabled="busy || isOver" />
    </BFormGroup>
    <div class="table-responsive jf-scroll" tabindex="0" role="region" aria-label="What it changes">
      <table class="table table-sm">
        <thead>
          <tr>
            <th scope="col">Workstation</th>
            <th scope="col">Now</th>
            <th scope="col">Then</th>
            <th scope="col">Result</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in lines" :key="line.workstation.id">
            <th scope="row">{{ line.workstation.name }}</th>
            <td>{{ line.now }}</td>
            <td>{{ line.not ? `stays as it is: ${line.not}` : line.then }}</td>
            <td :class="{ 'jf-bad': results.has(line.workstation.id) && results.get(line.workstation.id) !== 'done' }">{{ results.get(line.workstation.id) ?? '' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <div class="mt-3 d-flex gap-2 align-items-center">
      <BButton v-if="!isOver" type="submit" variant="primary" :disabled="busy || isWrong || !possible.length">{{ action.name }} ({{ possible.length }})</BButton>
      <BButton variant="outline-secondary" :disabled="busy" @click="isOver ? emit('done') : emit('cancel')">{{ isOver ? 'Close' : 'Cancel' }}</BButton>
      <span role="status" class="jf-quiet">{{ busy || isOver ? `${results.size} of ${possible.length} done` : '' }}</span>
    </div>
  </form>
</template>
