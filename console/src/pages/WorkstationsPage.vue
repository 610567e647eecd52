<script setup lang="ts">
import { BButton, BSpinner } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { saveText } from '../api/client'
import ColumnChoice from '../components/ColumnChoice.vue'
import ListPager from '../components/ListPager.vue'
import NoWorkstation from '../components/NoWorkstation.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import SeveralActions from '../components/SeveralActions.vue'
import SeveralSchedules from '../components/SeveralSchedules.vue'
import WorkstationFilters from '../components/WorkstationFilters.vue'
import WorkstationTable from '../components/WorkstationTable.vue'
import { useChosen } from '../composables/useChosen'
import { useColumns } from '../composables/useColumns'
import { useSession } from '../composables/useSession'
import { useWorkstations } from '../composables/useWorkstations'
import { csv } from '../logic/csv'
import { many } from '../logic/format'
import { ACTIONS } from '../logic/severalActions'
import { COLUMNS, USUAL } from '../logic/workstationList'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
const { shown, show, found, problem, loading, reload, now, live, all } = useWorkstations()
const keys = COLUMNS.map(({ key }) => key)
const columns = useColumns('workstations', keys, USUAL)
const shownColumns = computed(() => COLUMNS.filter(({ key }) => columns.shown.value.includes(key)))
const items = computed(() => found.value?.items ?? [])
const { chosen, has, toggle, all: howMany, toggleAll, clear } = useChosen(() => items.value.filter((w) => !['retired', 'unclaimed'].includes(w.state)))
const doing = ref('')
const action = computed(() => ACTIONS.find(({ key }) => key === doing.value))
const isFiltered = computed(() => !!(shown.value.text || shown.value.state || shown.value.destination || shown.value.group))

const sort = (by: string, descending: boolean) => show({ sort: by === 'name' ? '' : by, descending: descending ? 'yes' : '', after: '' })
const showAll = () => show({ text: '', state: '', destination: '', group: '', after: '' })
function done() {
  doing.value = ''
  clear()
  void reload()
}
async function exportShown() {
  const rows = (await all()).map((w) => [w.name, ...shownColumns.value.map((c) => c.text(w, now.value))])
  saveText('workstations.csv', 'text/csv', csv([['Workstation', ...shownColumns.value.map((c) => c.title)], ...rows]))
}
</script>

<template>
  <div class="d-flex flex-wrap align-items-baseline gap-3 mb-3">
    <h1 class="mb-0">Workstations</h1>
    <span class="ms-auto jf-quiet small" role="status">{{ live ? 'Updates live' : 'Connecting…' }}</span>
  </div>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <div class="d-flex flex-wrap align-items-start gap-2 mb-3">
    <WorkstationFilters :filters="shown" :sees-office="account?.role !== 'member'" @change="(changes, isStep) => show({ ...changes, after: '' }, isStep)" />
    <ColumnChoice class="ms-auto" :all="COLUMNS" :shown="columns.shown.value" @toggle="columns.toggle" />
    <BButton size="sm" variant="outline-secondary" @click="exportShown">Export as CSV</BButton>
  </div>
  <div v-if="chosen.length && !doing" class="jf-panel d-flex flex-wrap align-items-center gap-2 mb-3" role="region" aria-label="With the chosen workstations">
    <strong>{{ many(chosen.length, 'workstation') }} chosen</strong>
    <BButton v-for="one in ACTIONS" :key="one.key" size="sm" variant="outline-secondary" @click="doing = one.key">{{ one.name }}</BButton>
    <BButton size="sm" variant="outline-secondary" @click="doing = 'schedule'">Change schedule</BButton>
    <BButton size="sm" variant="link" class="ms-auto" @click="clear">Choose none</BButton>
  </div>
  <SeveralSchedules v-if="doing === 'schedule'" :workstations="chosen" @done="done" @cancel="doing = ''" />
  <SeveralActions v-if="action" :key="doing" :action="action" :workstations="chosen" :now="now" @done="done" @cancel="doing = ''" />
  <div v-if="loading && !found" class="jf-quiet"><BSpinner small /> Loading…</div>
  <template v-if="found">
    <template v-if="found.total">
      <WorkstationTable
        :workstations="items" :columns="shownColumns" :now="now" :sort="shown.sort || 'name'" :descending="!!shown.descending" :may-choose="mayChange" :is-chosen="has" :all="howMany"
        @sort="sort" @choose="toggle" @choose-all="toggleAll"
      />
      <ListPager :shown="items.length" :before="found.before" :total="found.total" :next="found.next" :previous="found.previous" :loading="loading" @turn="(after) => show({ after })" />
    </template>
    <p v-else-if="isFiltered" class="jf-panel">No workstation is as you look for it. <BButton size="sm" variant="outline-secondary" @click="showAll">Show all</BButton></p>
    <NoWorkstation v-else :may-change="mayChange" />
  </template>
</template>
