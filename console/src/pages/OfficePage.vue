<script setup lang="ts">
import { BSpinner } from 'bootstrap-vue-next'
import { computed, onMounted, watch } from 'vue'
import { answer, api } from '../api/client'
import AlertPanel from '../components/AlertPanel.vue'
import DestinationRoom from '../components/DestinationRoom.vue'
import NoWorkstation from '../components/NoWorkstation.vue'
import OfficeFigures from '../components/OfficeFigures.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import SetupNote from '../components/SetupNote.vue'
import { useEvents } from '../composables/useEvents'
import { useLoad } from '../composables/useLoad'
import { useNow } from '../composables/useNow'
import { useSession } from '../composables/useSession'
import { standing } from '../logic/office'

const { account } = useSession()
const seesOffice = computed(() => account.value?.role !== 'member')
const { data, problem, loading, reload } = useLoad(async () => {
  const [office, alerts] = await Promise.all([answer(api.GET('/api/v1/office')), seesOffice.value ? answer(api.GET('/api/v1/alerts')) : undefined])
  return { office, alerts: alerts?.alerts.length ?? 0 }
})
const { now, setBy } = useNow()
const { live } = useEvents((event) => {
  if (event.what === 'run' ? event.run.outcome !== 'underway' : event.what !== 'restore' && event.what !== 'job') void reload()
}, reload)
const hasWorkstations = computed(() => data.value?.office.states.some(({ workstations }) => workstations > 0))

watch(data, (shown) => shown && setBy(shown.office.now))
onMounted(reload)
</script>

<template>
  <div class="d-flex flex-wrap align-items-baseline gap-3 mb-3">
    <h1 class="mb-0">Office</h1>
    <p v-if="data" class="mb-0 jf-quiet">{{ standing(data.office, data.alerts) }}</p>
    <span class="ms-auto jf-quiet small" role="status">{{ live ? 'Updates live' : 'Connecting…' }}</span>
  </div>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <template v-if="seesOffice">
    <AlertPanel />
    <SetupNote />
  </template>
  <div v-if="loading && !data" class="jf-quiet"><BSpinner small /> Loading…</div>
  <template v-if="data">
    <OfficeFigures v-if="hasWorkstations" :office="data.office" :now="now" />
    <NoWorkstation v-else :may-change="account?.role === 'administrator'" />
    <div v-if="data.office.destinations.length" class="row g-3 mt-1">
      <div v-for="d in data.office.destinations" :key="d.id" class="col-12 col-lg-6"><DestinationRoom :destination="d" /></div>
    </div>
  </template>
</template>
