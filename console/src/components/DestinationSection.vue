<script setup lang="ts">
import { BButton, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { get, post } from '../api/client'
import type { Destination, Page, Verdict } from '../api/types'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { parseSize, size } from '../logic/format'
import DestinationRoom from './DestinationRoom.vue'
import DestinationSettings from './DestinationSettings.vue'
import ProblemAlert from './ProblemAlert.vue'

defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(() => get<Page<Destination>>('/destinations?most=500'))
const name = ref('')
const directory = ref('')
const capacity = ref('')
const verdict = ref<Verdict>()
const capacityBytes = computed(() => (capacity.value.trim() === '' ? null : parseSize(capacity.value)))

const trying = useForm(async () => {
  verdict.value = await post<Verdict>('/destinations/try', { directory: directory.value })
})
const adding = useForm(async () => {
  await post<Destination>('/destinations', { name: name.value, directory: directory.value, capacity: capacityBytes.value })
  name.value = directory.value = capacity.value = ''
  verdict.value = undefined
  await reload()
})

onMounted(reload)
</script>

<template>
  <section class="mb-4" aria-labelledby="destinations">
    <h2 id="destinations">Destinations</h2>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <div class="row g-3 mb-3">
      <div v-for="d in data?.items" :key="d.id" class="col-12 col-lg-6"><DestinationRoom :destination="d"><DestinationSettings :destination="d" :may-change="mayChange" @changed="reload" /></DestinationRoom></div>
      <p v-if="data && !data.items.length" class="mb-0">There is no place for backups yet. Choose an empty directory on a local volume of the server.</p>
    </div>
    <form v-if="mayChange" class="jf-panel" @submit.prevent="adding.submit">
      <ProblemAlert :problem="adding.problem.value ?? trying.problem.value" />
      <div class="row g-3">
        <BFormGroup label="Name" label-for="destination-name" class="col-3"><BFormInput id="destination-name" v-model="name" required maxlength="64" /></BFormGroup>
        <BFormGroup label="Directory on the server" label-for="destination-directory" class="col-5">
          <BFormInput id="destination-directory" v-model="directory" required placeholder="/backup/office" @update:model-value="verdict = undefined" />
        </BFormGroup>
        <BFormGroup label="Capacity" label-for="destination-capacity" description="Such as 2TB; empty for no limit." class="col-4">
          <BFormInput id="destination-capacity" v-model="capacity" :state="capacityBytes === undefined ? false : null" />
        </BFormGroup>
      </div>
      <p v-if="verdict" role="status" class="mt-2 mb-0">
        <strong>{{ verdict.fit ? 'This directory would do.' : 'This directory does not do.' }}</strong>
        {{ verdict.reasons.join('; ') }}
        <span v-if="verdict.size" class="jf-quiet">{{ size(verdict.free) }} free of {{ size(verdict.size) }} ({{ verdict.file_system }})</span>
      </p>
      <div class="mt-3 d-flex gap-2">
        <BButton type="submit" variant="primary" :disabled="adding.busy.value || capacityBytes === undefined">Add destination</BButton>
        <BButton variant="outline-secondary" :disabled="!directory || trying.busy.value" @click="trying.submit">Try the directory</BButton>
      </div>
    </form>
  </section>
</template>
