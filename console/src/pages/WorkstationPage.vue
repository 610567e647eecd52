<script setup lang="ts">
import { BButton, BSpinner } from 'bootstrap-vue-next'
import { computed, onMounted, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api, at } from '../api/client'
import type { Event, LastDiagnosis, Page, Point, Restore, Run, Wait, Workstation } from '../api/types'
import DiagnosisPanel from '../components/DiagnosisPanel.vue'
import HistoryTable from '../components/HistoryTable.vue'
import OrdersPanel from '../components/OrdersPanel.vue'
import RetentionPanel from '../components/RetentionPanel.vue'
import PointTable from '../components/PointTable.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import SchedulePanel from '../components/SchedulePanel.vue'
import RunProgress from '../components/RunProgress.vue'
import IntegrityPanel from '../components/IntegrityPanel.vue'
import StateWord from '../components/StateWord.vue'
import SuspectPanel from '../components/SuspectPanel.vue'
import UnlockMethodsPanel from '../components/UnlockMethodsPanel.vue'
import { useEvents } from '../composables/useEvents'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { useNow } from '../composables/useNow'
import { useSession } from '../composables/useSession'
import { age, many, moment, noun, size, words } from '../logic/format'
import { withEntry, withRun } from '../logic/live'
import { restoreWords, whoText } from '../logic/restore'

const props = defineProps<{ id: string }>()
const PAGE = 25

interface Shown {
  workstation: Workstation
  points: Page<Point>
  runs: Page<Run>
  restores: Page<Restore>
  waits: Page<Wait>
  diagnosis: LastDiagnosis
  now: string
}

async function load(): Promise<Shown> {
  const path = { id: props.id }
  const latest = { params: { path, query: { most: PAGE } } }
  const [workstation, points, runs, restores, waits, diagnosis, service] = await Promise.all([
    answer(api.GET('/api/v1/workstations/{id}', at(path))),
    answer(api.GET('/api/v1/workstations/{id}/points', latest)),
    answer(api.GET('/api/v1/workstations/{id}/runs', latest)),
    answer(api.GET('/api/v1/workstations/{id}/restores', latest)),
    answer(api.GET('/api/v1/workstations/{id}/waits', latest)),
    answer(api.GET('/api/v1/workstations/{id}/diagnosis', at(path))),
    answer(api.GET('/api/v1/service')),
  ])
  return { workstation, points, runs, restores, waits, diagnosis, now: service.now }
}

const { data, problem, loading, reload } = useLoad(load)
const { now, setBy } = useNow()
useEvents(onEvent, reload)

function onEvent(event: Event) {
  const shown = data.value
  if (!shown) return
  if (event.what === 'run' && event.run.workstation === props.id) {
    const runs = { ...shown.runs, items: withEntry(shown.runs.items, event.run) }
    data.value = { ...shown, runs, workstation: withRun(shown.workstation, event.run) }
  } else if (event.what === 'restore' && event.restore.workstation === props.id) {
    data.value = { ...shown, restores: { ...shown.restores, items: withEntry(shown.restores.items, event.restore) } }
  } else if (event.what === 'schedules' || (event.what === 'workstation' && event.workstation === props.id)) {
    void reload()
  }
}

async function morePoints() {
  const shown = data.value
  if (!shown?.points.next) return
  const next = await answer(
    api.GET('/api/v1/workstations/{id}/points', { params: { path: { id: props.id }, query: { most: PAGE, after: shown.points.next } } }),
  )
  data.value = { ...shown, points: { items: [...shown.points.items, ...next.items], next: next.next } }
}

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
const w = computed(() => data.value?.workstation)
const toCancel = ref<Restore>()
const cancelling = useForm(async () => {
  if (toCancel.value) await answer(api.POST('/api/v1/restores/{id}/cancellation', at({ id: toCancel.value.id })))
})
function cancel(restore: Restore) {
  toCancel.value = restore
  void cancelling.submit()
}
const running = computed(() => (w.value?.latest_run?.outcome === 'underway' ? w.value.latest_run : undefined))
const restoring = computed(() => data.value?.restores.items.filter((r) => r.outcome === 'underway') ?? [])

watch(data, (shown) => shown && setBy(shown.now))
onMounted(reload)
</script>

<template>
  <nav aria-label="Where you are" class="mb-2"><RouterLink :to="{ name: 'overview' }">Overview</RouterLink> / {{ w?.name ?? '…' }}</nav>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <div v-if="loading && !data" class="jf-quiet"><BSpinner small /> Loading…</div>
  <template v-if="data && w">
    <div class="d-flex align-items-baseline gap-3 mb-3">
      <h1 class="mb-0">{{ w.name }}</h1>
      <StateWord :state="w.store.suspect ? 'suspect' : w.state" />
      <span class="jf-quiet">{{ w.person }} ({{ w.login }})</span>
      <RouterLink v-if="w.latest_point" class="btn btn-primary btn-sm ms-auto" :to="{ name: 'browse', params: { id } }">Browse and restore</RouterLink>
    </div>
    <ProblemAlert :problem="cancelling.problem.value" />

    <SuspectPanel :workstation="w" :now="now" :may-change="mayChange" @changed="reload" />

    <section v-if="running" class="jf-panel mb-3" aria-label="Run underway">
      <RunProgress :progress="running.progress" :started="running.started" :now="now" label="Progress of the backup" />
    </section>
    <section v-for="r in restoring" :key="r.id" class="jf-panel mb-3" aria-label="Restore underway">
      <div class="d-flex align-items-baseline gap-3 mb-1">
        <span>{{ restoreWords(r) }}, {{ whoText(r) }}</span>
        <span v-if="r.cancelled_by" class="jf-quiet ms-auto">cancelled by {{ r.cancelled_by }}, ending…</span>
        <BButton v-else size="sm" variant="outline-secondary" class="ms-auto" :aria-label="`Cancel: ${restoreWords(r)}`" @click="cancel(r)">Cancel</BButton>
      </div>
      <RunProgress :progress="r.progress" :started="r.started" :now="now" label="Progress of the restore" />
    </section>

    <OrdersPanel :workstation="id" :name="w.name" :now="now" />

    <section class="jf-panel mb-3" aria-label="Facts">
      <dl class="jf-facts">
        <div>
          <dt>Last complete point</dt>
          <dd>{{ w.latest_point ? age(w.latest_point.committed, now) : 'none yet' }}</dd>
        </div>
        <div>
          <dt>In it</dt>
          <dd>{{ w.latest_point ? `${many(w.latest_point.files, noun(w.latest_point.kind))}, ${size(w.latest_point.bytes)}` : '–' }}</dd>
        </div>
        <div>
          <dt>Points</dt>
          <dd>{{ w.store.points }}</dd>
        </div>
        <div>
          <dt>Image store</dt>
          <dd>{{ w.store.used == null ? 'size unknown' : size(w.store.used) }} on {{ w.store.destination_name }}</dd>
        </div>
        <div>
          <dt>Encryption</dt>
          <dd>{{ w.store.encrypted ? 'on the workstation' : 'none: whoever gets at that disk can read it' }}</dd>
        </div>
        <div>
          <dt>Last drill</dt>
          <dd v-if="w.store.drill_failed" class="jf-bad">did not restore everything, {{ age(w.store.drill_failed, now) }}</dd>
          <dd v-else-if="w.store.drilled">restored point {{ w.store.drilled_point }}, {{ age(w.store.drilled, now) }}</dd>
          <dd v-else>none yet: <code>jetfrost drill</code></dd>
        </div>
        <div v-if="w.store.encrypted">
          <dt>Last proof of a secret</dt>
          <dd :class="{ 'jf-bad': w.store.proof_due }">
            {{ w.store.proof ? `${words(w.store.proof.secret)}, ${age(w.store.proof.at, now)}` : 'none yet' }}<template v-if="w.store.proof_due">; overdue. At the workstation: <code>jetfrost unlock</code></template>
          </dd>
        </div>
        <div>
          <dt>Machine</dt>
          <dd>{{ w.platform }}{{ w.disk_bytes ? `, disk ${size(w.disk_bytes)}` : '' }}</dd>
        </div>
        <div>
          <dt>Client</dt>
          <dd>{{ w.client_version }}, seen {{ w.last_seen ? age(w.last_seen, now) : 'never' }}</dd>
        </div>
        <div>
          <dt>Enrolled</dt>
          <dd>{{ moment(w.enrolled) }}</dd>
        </div>
      </dl>
    </section>

    <SchedulePanel :workstation="w" :now="now" :may-change="mayChange" @changed="reload" />

    <DiagnosisPanel :last="data.diagnosis" :now="now" />

    <RetentionPanel :workstation="w" :may-change="mayChange" @changed="reload" />

    <section class="jf-panel mb-3 table-responsive">
      <h2>Recovery points</h2>
      <template v-if="data.points.items.length">
        <PointTable :points="data.points.items" :now="now" :store="w.store.id" :may-change="mayChange" @changed="reload" />
        <BButton v-if="data.points.next" size="sm" variant="outline-secondary" class="mt-2" @click="morePoints">Show older points</BButton>
      </template>
      <p v-else class="mb-0">
        There is none yet: no backup has come to its end. On the workstation, <code>jetfrost backup</code> makes one; what was sent so far stays.
      </p>
    </section>

    <IntegrityPanel :workstation="w" :now="now" :may-change="mayChange" />

    <UnlockMethodsPanel :workstation="w" :may-change="mayChange" />

    <section class="jf-panel table-responsive">
      <h2>History of runs and restores</h2>
      <HistoryTable
        v-if="data.runs.items.length || data.restores.items.length || data.waits.items.length"
        :runs="data.runs.items"
        :restores="data.restores.items"
        :waits="data.waits.items"
      />
      <p v-else class="mb-0">Nothing has happened yet.</p>
    </section>
  </template>
</template>
