<script setup lang="ts">
import { BButton, BFormCheckbox } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { answer, api } from '../api/client'
import type { Verdict } from '../api/types'
import { useForm } from '../composables/useForm'
import { parseSize, size } from '../logic/format'
import CapacityAdvice from './CapacityAdvice.vue'
import ProblemAlert from './ProblemAlert.vue'
import StateWord from './StateWord.vue'
import RuledInput from './RuledInput.vue'

/** Adds a destination; the directory is tried while it is typed. */
const props = defineProps<{ chosen: string }>()
const emit = defineEmits<{ changed: [] }>()

const name = ref('')
const description = ref('')
const directory = ref('')
const capacity = ref('')
const everybody = ref(false)
const verdict = ref<Verdict>()
const capacityBytes = computed(() => (capacity.value.trim() === '' ? null : parseSize(capacity.value)))

const trying = useForm(async () => {
  verdict.value = await answer(api.POST('/api/v1/destinations/check', { body: { directory: directory.value } }))
})
const adding = useForm(async () => {
  const body = {
    name: name.value,
    description: description.value,
    directory: directory.value,
    capacity: capacityBytes.value,
    grants: { everybody: everybody.value },
  }
  await answer(api.POST('/api/v1/destinations', { body }))
  name.value = description.value = directory.value = capacity.value = ''
  verdict.value = undefined
  emit('changed')
})
watch(
  () => props.chosen,
  (chosen) => {
    if (chosen) directory.value = chosen
  },
)
</script>

<template>
  <form class="jf-panel mb-4" aria-labelledby="add-destination" @submit.prevent="adding.submit">
    <h2 id="add-destination">Add a destination</h2>
    <ProblemAlert :problem="adding.problem.value ?? trying.problem.value" />
    <div class="row g-3">
      <RuledInput id="destination-name" v-model="name" label="Name" rule="destination-name" column="col-3" required />
      <RuledInput
        id="destination-directory"
        v-model="directory"
        label="Directory on the server"
        rule="directory"
        description="It is created if its parent exists."
        column="col-6"
        required
        placeholder="/backup/office"
        @update:model-value="verdict = undefined"
      />
      <RuledInput id="destination-capacity" v-model="capacity" label="Capacity" rule="size" description="Such as 2TB; empty for no limit." column="col-3" />
      <RuledInput id="destination-description" v-model="description" label="What it is for" rule="description" column="col-9" />
      <div class="col-12"><BFormCheckbox v-model="everybody">Grant access to everybody. Without it nobody has access until you grant it under Access</BFormCheckbox></div>
    </div>
    <CapacityAdvice v-if="verdict && verdict.fitness !== 'unfit'" :directory="directory" :capacity="capacityBytes" />
    <p v-if="verdict" role="status" class="mt-2 mb-0">
      <StateWord :state="verdict.fitness" />
      {{ verdict.reasons.join('; ') }}
      <span v-if="verdict.size" class="jf-quiet">{{ size(verdict.free) }} free of {{ size(verdict.size) }} ({{ verdict.file_system }})</span>
    </p>
    <div class="mt-3 d-flex gap-2">
      <BButton type="submit" variant="primary" :disabled="adding.busy.value || capacityBytes === undefined">Add destination</BButton>
      <BButton variant="outline-secondary" :disabled="!directory || trying.busy.value" @click="trying.submit">Check the directory</BButton>
    </div>
  </form>
</template>
