<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { api, list } from '../api/client'
import AdoptForm from '../components/AdoptForm.vue'
import DestinationForm from '../components/DestinationForm.vue'
import DestinationPanel from '../components/DestinationPanel.vue'
import JobSection from '../components/JobSection.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import OfficePanel from '../components/OfficePanel.vue'
import VolumeTable from '../components/VolumeTable.vue'
import { useEvents } from '../composables/useEvents'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../composables/useSession'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
const { data, problem, reload } = useLoad(() => list(() => api.GET('/api/v1/destinations')))
const volumes = useLoad(() => list(() => api.GET('/api/v1/volumes')))
const directory = ref('')

useEvents((event) => void (event.what === 'office' && reload()), reload)
async function changed() {
  directory.value = ''
  await Promise.all([reload(), volumes.reload()])
}
onMounted(() => {
  void reload()
  if (mayChange.value) void volumes.reload()
})
</script>

<template>
  <h1 class="mb-1">Storage</h1>
  <p class="jf-quiet">Directories on this server that are used for backups only. You can have several, each with its own limits and access.</p>
  <section class="mb-4" aria-labelledby="destinations">
    <h2 id="destinations">Destinations</h2>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <div class="row g-3">
      <div v-for="d in data" :id="`destination-${d.id}`" :key="d.id" class="col-12 col-xl-6"><DestinationPanel :destination="d" :may-change="mayChange" @changed="changed" /></div>
      <p v-if="data && !data.length" class="mb-0">There is no place for backups yet. {{ mayChange ? 'Choose a volume below, and a directory on it.' : 'An administrator adds one.' }}</p>
    </div>
  </section>
  <JobSection :may-change="mayChange" />
  <template v-if="mayChange">
    <section class="mb-4" aria-labelledby="volumes">
      <h2 id="volumes">Volumes of this server</h2>
      <ProblemAlert :problem="volumes.problem.value" retry @retry="volumes.reload" />
      <VolumeTable v-if="volumes.data.value" :volumes="volumes.data.value" @use="(at) => (directory = `${at === '/' ? '' : at}/jetfrost`)" />
      <p v-else-if="volumes.loading.value" class="jf-quiet" role="status">Checking the volumes: a test file is written to each and removed…</p>
    </section>
    <DestinationForm :chosen="directory" @changed="changed" />
    <AdoptForm @changed="changed" />
    <OfficePanel />
  </template>
</template>
