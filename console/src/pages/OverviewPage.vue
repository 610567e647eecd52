<script setup lang="ts">
import { BButton, BFormInput, BSpinner } from 'bootstrap-vue-next'
import { computed, onMounted, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api } from '../api/client'
import type { Event } from '../api/types'
import AlertPanel from '../components/AlertPanel.vue'
import DestinationRoom from '../components/DestinationRoom.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import SeveralSchedules from '../components/SeveralSchedules.vue'
import SetupPanel from '../components/SetupPanel.vue'
import WorkstationTable from '../components/WorkstationTable.vue'
import { useEvents } from '../composables/useEvents'
import { useLoad } from '../composables/useLoad'
import { useNow } from '../composables/useNow'
import { useSession } from '../composables/useSession'
import { filtered } from '../logic/filter'
import { many } from '../logic/format'
import { overviewWithRun } from '../logic/live'

const { account } = useSession()
const { data, problem, loading, reload } = useLoad(() => answer(api.GET('/api/v1/overview')))
const { now, setBy } = useNow()
const { live } = useEvents(onEvent, reload)

function onEvent(event: Event) {
  if (event.what === 'run' && data.value) data.value = overviewWithRun(data.value, event.run)
  else if (event.what !== 'restore' && event.what !== 'job') void reload()
}

const overdue = computed(() => data.value?.workstations.filter((w) => w.state === 'overdue').length ?? 0)
const awaited = computed(() => data.value?.workstations.filter((w) => w.state === 'first_point_awaited').length ?? 0)
const summary = computed(() => {
  const all = data.value?.workstations.length ?? 0
  const notes = [overdue.value && `${overdue.value} overdue`, awaited.value && `${awaited.value} without a first point`].filter(Boolean)
  return notes.length ? `${all} workstations: ${notes.join(', ')}` : `${all} workstations, all current`
})

const filter = ref('')
const shown = computed(() => filtered(data.value?.workstations ?? [], filter.value))
/** Machines that have a schedule to be changed. */
const scheduled = computed(() => shown.value.filter((w) => !['retired', 'unclaimed'].includes(w.state)))
const changing = ref(false)
const more = ref(false)
function changed() {
  changing.value = false
  void reload()
}

watch(data, (overview) => overview && setBy(overview.now))
onMounted(reload)
</script>

<template>
  <div class="d-flex align-items-baseline gap-3 mb-3">
    <h1 class="mb-0">Overview</h1>
    <p v-if="data?.workstations.length" class="mb-0 jf-quiet">{{ summary }}</p>
    <span class="ms-auto jf-quiet small" role="status">{{ live ? 'Updates live' : 'Connecting…' }}</span>
  </div>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <AlertPanel v-if="account && account.role !== 'member'" />
  <SetupPanel v-if="account && account.role !== 'member'" :may-change="account.role === 'administrator'" />
  <div v-if="loading && !data" class="jf-quiet"><BSpinner small /> Loading…</div>
  <template v-if="data">
    <template v-if="data.workstations.length">
      <div class="d-flex flex-wrap align-items-center gap-2 mb-3">
        <label for="filter" class="visually-hidden">Filter the workstations</label>
        <BFormInput id="filter" v-model="filter" type="search" placeholder="Filter: name, person, state, destination…" class="jf-filter" />
        <span v-if="filter" role="status" class="jf-quiet">{{ shown.length }} of {{ many(data.workstations.length, 'workstation') }}</span>
        <BButton size="sm" variant="outline-secondary" class="ms-auto" @click="more = !more">{{ more ? 'Fewer columns' : 'More columns' }}</BButton>
        <BButton v-if="account?.role === 'administrator' && scheduled.length && !changing" size="sm" variant="outline-secondary" @click="changing = true">
          Change schedule of {{ scheduled.length === 1 ? 'this one' : `these ${scheduled.length}` }}
        </BButton>
      </div>
      <SeveralSchedules v-if="changing" :workstations="scheduled" @done="changed" @cancel="changing = false" />
      <WorkstationTable v-if="shown.length" :workstations="shown" :now="now" :more="more" />
      <p v-else class="jf-panel">No workstation has all of these words. <BButton size="sm" variant="outline-secondary" @click="filter = ''">Show all</BButton></p>
    </template>
    <div v-else class="jf-panel">
      <h2>No workstation yet</h2>
      <p v-if="account?.role === 'administrator'" class="mb-0">
        First a place under <RouterLink :to="{ name: 'storage' }">Storage</RouterLink>, then <RouterLink :to="{ name: 'people' }">People</RouterLink>, then
        <RouterLink :to="{ name: 'access' }">Access</RouterLink>, then a code under <RouterLink :to="{ name: 'machines' }">Machines</RouterLink>; and
        <code>jetfrost join CODE</code> on the person’s machine.
      </p>
      <p v-else class="mb-0">Ask the administrator for an enrolment code, then run <code>jetfrost join CODE</code> on your machine.</p>
    </div>
    <div v-if="data.destinations.length" class="row g-3 mt-1">
      <div v-for="d in data.destinations" :key="d.id" class="col-12 col-lg-6"><DestinationRoom :destination="d" /></div>
    </div>
  </template>
</template>
