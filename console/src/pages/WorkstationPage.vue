<script setup lang="ts">
import { BButton, BSpinner } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'
import DiagnosisPanel from '../components/DiagnosisPanel.vue'
import HistoryTable from '../components/HistoryTable.vue'
import IntegrityPanel from '../components/IntegrityPanel.vue'
import OrdersPanel from '../components/OrdersPanel.vue'
import PageTabs from '../components/PageTabs.vue'
import PointTable from '../components/PointTable.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import RetentionPanel from '../components/RetentionPanel.vue'
import SchedulePanel from '../components/SchedulePanel.vue'
import StateWord from '../components/StateWord.vue'
import SuspectPanel from '../components/SuspectPanel.vue'
import UnderwayPanel from '../components/UnderwayPanel.vue'
import UnlockMethodsPanel from '../components/UnlockMethodsPanel.vue'
import WorkstationFacts from '../components/WorkstationFacts.vue'
import { useSession } from '../composables/useSession'
import { useWorkstation } from '../composables/useWorkstation'

const props = defineProps<{ id: string; tab: string }>()
const TABS = [
  { tab: '', text: 'Summary' },
  { tab: 'points', text: 'Recovery points' },
  { tab: 'history', text: 'History' },
  { tab: 'schedule', text: 'Schedule' },
  { tab: 'retention', text: 'Limit and retention' },
  { tab: 'keys', text: 'Unlock methods' },
]
const tabs = computed(() => TABS.map(({ tab, text }) => ({ text, to: { name: 'workstation', params: { id: props.id, tab } } })))
const { data, problem, loading, reload, now, morePoints } = useWorkstation(() => props.id)
const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
const w = computed(() => data.value?.workstation)
const hasHistory = computed(() => !!data.value && [data.value.runs, data.value.restores, data.value.waits].some(({ items }) => items.length))
</script>

<template>
  <nav aria-label="Where you are" class="mb-2"><RouterLink :to="{ name: 'workstations' }">Workstations</RouterLink> / {{ w?.name ?? '…' }}</nav>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <div v-if="loading && !data" class="jf-quiet"><BSpinner small /> Loading…</div>
  <template v-if="data && w">
    <div class="d-flex flex-wrap align-items-baseline gap-3 mb-2">
      <h1 class="mb-0">{{ w.name }}</h1>
      <StateWord :state="w.store.suspect ? 'suspect' : w.state" />
      <span class="jf-quiet">{{ w.person }} ({{ w.login }})</span>
      <RouterLink v-if="w.latest_point" class="btn btn-primary btn-sm ms-auto" :to="{ name: 'browse', params: { id } }">Browse and restore</RouterLink>
    </div>
    <PageTabs label="Of this workstation" :tabs="tabs" />

    <template v-if="tab === ''">
      <SuspectPanel :workstation="w" :now="now" :may-change="mayChange" @changed="reload" />
      <UnderwayPanel :workstation="w" :restores="data.restores.items" :now="now" />
      <OrdersPanel :workstation="id" :name="w.name" :now="now" />
      <WorkstationFacts :workstation="w" :now="now" />
      <DiagnosisPanel :last="data.diagnosis" :now="now" />
    </template>
    <template v-else-if="tab === 'points'">
      <section class="jf-panel mb-3 table-responsive" tabindex="0" aria-labelledby="points">
        <h2 id="points">Recovery points</h2>
        <template v-if="data.points.items.length">
          <PointTable :points="data.points.items" :now="now" :store="w.store.id" :may-change="mayChange" @changed="reload" />
          <BButton v-if="data.points.next" size="sm" variant="outline-secondary" class="mt-2" @click="morePoints">Show older points</BButton>
        </template>
        <p v-else class="mb-0">There is none yet: no backup has come to its end. What was sent so far stays.</p>
      </section>
      <IntegrityPanel :workstation="w" :now="now" :may-change="mayChange" />
    </template>
    <section v-else-if="tab === 'history'" class="jf-panel table-responsive" tabindex="0" aria-labelledby="history">
      <h2 id="history">History of runs and restores</h2>
      <HistoryTable v-if="hasHistory" :runs="data.runs.items" :restores="data.restores.items" :waits="data.waits.items" />
      <p v-else class="mb-0">Nothing has happened yet.</p>
    </section>
    <SchedulePanel v-else-if="tab === 'schedule'" :workstation="w" :now="now" :may-change="mayChange" @changed="reload" />
    <RetentionPanel v-else-if="tab === 'retention'" :workstation="w" :may-change="mayChange" @changed="reload" />
    <UnlockMethodsPanel v-else :workstation="w" :may-change="mayChange" />
  </template>
</template>
