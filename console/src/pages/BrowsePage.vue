<script setup lang="ts">
import { BAlert, BButton, BFormGroup, BFormInput, BFormSelect, BSpinner } from 'bootstrap-vue-next'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, useId } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api, at, list } from '../api/client'
import FileDetails from '../components/FileDetails.vue'
import FolderTable from '../components/FolderTable.vue'
import FoundTable from '../components/FoundTable.vue'
import OrderForm from '../components/OrderForm.vue'
import OrdersPanel from '../components/OrdersPanel.vue'
import PointCalendar from '../components/PointCalendar.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import RunProgress from '../components/RunProgress.vue'
import UnlockForm from '../components/UnlockForm.vue'
import { MOST_HITS, useBrowsing } from '../composables/useBrowsing'
import { useLoad } from '../composables/useLoad'
import { useNow } from '../composables/useNow'
import type { Secret } from '../image/slots'
import { namesOf, parentOf, shown, shownName, rawName, type RawPath } from '../image/path'
import { count, many, moment, size } from '../logic/format'
import { isSuspect, looks } from '../logic/suspects'
import { clearOwnPlace } from '../logic/saving'
import type { Hit, SaveProgress } from '../worker/protocol'

const props = defineProps<{ id: string }>()
const { now } = useNow()

const { data, problem, reload } = useLoad(async () => {
  const [workstation, points] = await Promise.all([
    answer(api.GET('/api/v1/workstations/{id}', at({ id: props.id }))),
    list((mark) => api.GET('/api/v1/workstations/{id}/points', { params: { path: { id: props.id }, query: mark } })),
  ])
  const methods = await answer(api.GET('/api/v1/stores/{id}/unlock-methods', at({ id: workstation.store.id })))
  return { workstation, points, methods: methods.items }
})

/** Made once it is known what there is to browse; made anew after it was locked. */
const browsing = shallowRef<ReturnType<typeof useBrowsing>>()
const b = computed(() => browsing.value)
const busy = ref(false)
const wanted = ref('')
const where = ref<'point' | 'all'>('all')
const ids = { search: useId(), where: useId() }

const w = computed(() => data.value?.workstation)
const readable = computed(() => data.value?.points.filter((one) => !one.lost) ?? [])
const point = computed(() => data.value?.points.find((one) => one.sequence === b.value?.point.value))
/** Where to begin: nothing is found in what an incident left. */
const first = computed(() => w.value?.store.suspect?.last_good?.sequence ?? readable.value[0]?.sequence)
const everywhere = computed(() => readable.value.map((one) => one.sequence))

async function unlock(secret: Secret) {
  if (!w.value) return
  busy.value = true
  b.value?.lock()
  browsing.value = useBrowsing(props.id, w.value.store.id)
  if ((await b.value?.unlock(secret)) && first.value !== undefined) await b.value?.openPoint(first.value)
  busy.value = false
}

function search() {
  if (!wanted.value.trim() || !b.value) return
  const point = b.value.point.value
  void b.value.search(where.value === 'all' || point === undefined ? everywhere.value : [point], wanted.value)
}

async function go(hit: Hit) {
  const on = b.value
  if (!on) return
  on.endSearch()
  if (on.point.value !== hit.point) await on.openPoint(hit.point)
  await on.openFolder(hit.entry.kind === 'folder' ? hit.entry.path : parentOf(hit.entry.path))
  if (hit.entry.kind === 'file') await on.openFile(hit.entry)
}

/** The folders that lead to the one that is shown. */
const crumbs = computed(() => {
  let path = ''
  return namesOf(b.value?.folder.value ?? '').map((name) => {
    path = `${path}/${rawName(name)}`
    return path
  })
})

function toggle(path: string) {
  const selected = b.value?.selected
  if (selected && !selected.delete(path)) selected.add(path)
}

/** What is to be restored on the machine, once it is said where to. */
const asked = shallowRef<{ paths: RawPath[]; point: number }>()
const ordering = ref(false)
function ask(paths: RawPath[], from: number | undefined) {
  if (from !== undefined) asked.value = { paths, point: from }
}
async function order(into: RawPath | undefined) {
  if (!asked.value || !b.value) return
  ordering.value = true
  if (await b.value.order(asked.value.paths, asked.value.point, into)) asked.value = undefined
  ordering.value = false
}

const progress = (p: SaveProgress) => ({ phase: 'sending' as const, files_done: p.files, files_total: p.filesTotal, bytes_done: p.bytes, bytes_total: p.bytesTotal, sent: 0 })
const leave = () => b.value?.lock()

onMounted(async () => {
  window.addEventListener('pagehide', leave)
  void clearOwnPlace()
  await reload()
  if (w.value && !w.value.store.encrypted && readable.value.length) await unlock({ kind: 'unencrypted' })
})
onBeforeUnmount(() => {
  window.removeEventListener('pagehide', leave)
  leave()
})
</script>

<template>
  <nav aria-label="Where you are" class="mb-2">
    <RouterLink :to="{ name: 'workstations' }">Workstations</RouterLink> / <RouterLink :to="{ name: 'workstation', params: { id } }">{{ w?.name ?? '…' }}</RouterLink> / Browse and restore
  </nav>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <div v-if="!data && !problem" class="jf-quiet"><BSpinner small /> Loading…</div>
  <template v-if="data && w">
    <div class="d-flex align-items-baseline gap-3 mb-3">
      <h1 class="mb-0">Browse {{ w.name }}</h1>
      <span class="jf-quiet">{{ w.person }} ({{ w.login }})</span>
      <BButton v-if="b?.unlocked.value && w.store.encrypted" size="sm" variant="outline-secondary" class="ms-auto" @click="leave">Lock</BButton>
    </div>

    <p v-if="readable.length === 0" class="jf-panel">There is no recovery point to browse yet: no backup of {{ w.name }} has come to its end.</p>

    <section v-else-if="!b?.unlocked.value" class="jf-panel jf-unlock" aria-labelledby="unlock">
      <h2 id="unlock">Unlock in this browser</h2>
      <BAlert v-if="b?.cancelledBy.value" :model-value="true" variant="warning">{{ b.cancelledBy.value }} ended this on the workstation’s page, and the key was forgotten.</BAlert>
      <ProblemAlert :problem="b?.problem.value" />
      <UnlockForm v-if="w.store.encrypted" :workstation="w" :methods="data.methods" :busy="busy" @unlock="unlock" />
      <div class="jf-quiet mt-3">
        <p class="mb-1">
          What you type stays in this browser, and the key is forgotten when you leave the page. The service sends encrypted pieces and sees which ones; it learns no secret, no key, no name and
          no content. That this point was browsed, when and by whom, is on record.
        </p>
        <p class="mb-0">
          That protects from whoever reads the service’s disk or its traffic. It does not protect from whoever can change the pages that the service serves: if you do not trust it, restore with the program on a workstation.
        </p>
      </div>
    </section>

    <div v-else-if="b" class="jf-browse">
      <aside class="jf-panel">
        <PointCalendar :points="data.points" :chosen="b.point.value" @choose="b.openPoint" />
      </aside>

      <section class="jf-panel" aria-labelledby="folder">
        <BAlert v-if="point && isSuspect(point)" :model-value="true" variant="warning">
          Point {{ point.sequence }} {{ looks(point.suspicion) }}.
          <BButton v-if="w.store.suspect?.last_good" size="sm" variant="outline-dark" class="ms-2" @click="b.openPoint(w.store.suspect.last_good.sequence)">Go to the last good point</BButton>
        </BAlert>
        <ProblemAlert :problem="b.problem.value" />
        <form class="d-flex flex-wrap gap-2 align-items-end mb-3" role="search" @submit.prevent="search">
          <BFormGroup label="Search for a name" :label-for="ids.search" class="flex-grow-1">
            <BFormInput :id="ids.search" v-model="wanted" size="sm" placeholder="part of a name, or *.odt" />
          </BFormGroup>
          <BFormGroup label="In" :label-for="ids.where">
            <BFormSelect :id="ids.where" v-model="where" size="sm" :options="[{ value: 'all', text: 'all points' }, { value: 'point', text: 'this point' }]" />
          </BFormGroup>
          <BButton size="sm" type="submit" variant="outline-primary">Search</BButton>
        </form>

        <OrderForm
          v-if="asked"
          :key="asked.paths.join()"
          :workstation="w"
          :paths="asked.paths"
          :point="asked.point"
          :included="b.included.value"
          :busy="ordering"
          :now="now"
          @order="order"
          @close="asked = undefined"
        />
        <OrdersPanel :workstation="id" :name="w.name" :now="now" />
        <section v-if="b.saving.value" class="mb-3" :aria-label="`Download of ${b.saving.value.name}`">
          <div class="d-flex align-items-center gap-3">
            <span class="text-break">{{ b.saving.value.name }}</span>
            <BButton size="sm" variant="outline-secondary" class="ms-auto" @click="b.saving.value.cancel()">Cancel</BButton>
          </div>
          <RunProgress :progress="progress(b.saving.value.progress)" :started="b.saving.value.started" :now="now" label="Progress of the download" />
        </section>
        <BAlert v-if="b.saved.value" :model-value="true" :variant="b.saved.value.notExact.length ? 'warning' : 'success'" role="status">
          {{ b.saved.value.name }} is downloaded: {{ many(b.saved.value.done.files, 'file') }}, {{ size(b.saved.value.done.bytes) }}, each piece checked.
          <template v-if="b.saved.value.notExact.length">
            {{ many(b.saved.value.notExact.length, 'item') }} could not be restored exactly:
            <ul class="mb-0">
              <li v-for="one in b.saved.value.notExact.slice(0, 20)" :key="one.path" class="text-break">{{ shown(one.path) }}: {{ one.why }}</li>
              <li v-if="b.saved.value.notExact.length > 20">and {{ count(b.saved.value.notExact.length - 20) }} more: “not restored exactly.txt” in the archive names them all</li>
            </ul>
          </template>
        </BAlert>

        <FoundTable v-if="b.found.value" :found="b.found.value" :most="MOST_HITS" @go="go" @stop="b.stopSearch" @close="b.endSearch" />
        <template v-else>
          <div class="d-flex flex-wrap align-items-center gap-2 mb-2">
            <h2 id="folder" class="visually-hidden">{{ shown(b.folder.value) }} in point {{ b.point.value }}</h2>
            <nav aria-label="Folder" class="text-break">
              <button type="button" class="btn btn-link p-0" @click="b.openFolder('')">/</button>
              <template v-for="(path, i) in crumbs" :key="path">
                <span v-if="i > 0"> / </span>
                <button type="button" class="btn btn-link p-0" :aria-current="i === crumbs.length - 1 ? 'location' : undefined" @click="b.openFolder(path)">{{ shownName(path) }}</button>
              </template>
            </nav>
            <span v-if="point" class="jf-quiet">as of {{ moment(point.committed) }}</span>
            <BSpinner v-if="b.loading.value" small label="Reading the folder" />
            <div class="d-flex flex-wrap gap-2 ms-auto">
              <BButton size="sm" variant="outline-secondary" :disabled="b.selected.size === 0" @click="ask([...b.selected], b.point.value)">Restore on the machine…</BButton>
              <BButton size="sm" variant="primary" :disabled="b.selected.size === 0 || !!b.saving.value" @click="b.save([...b.selected], true)">
                {{ b.selected.size ? `Download ${b.selected.size} as zip` : 'Download as zip' }}
              </BButton>
            </div>
          </div>
          <FolderTable
            :entries="b.entries.value"
            :total="b.total.value"
            :selected="b.selected"
            :current="b.file.value?.path"
            @folder="b.openFolder"
            @file="b.openFile"
            @more="b.more"
            @toggle="toggle"
          />
        </template>
      </section>

      <FileDetails
        v-if="b.file.value && b.point.value !== undefined"
        :file="b.file.value"
        :point="b.point.value"
        :preview="b.preview.value"
        :versions="b.versions.value"
        :busy="!!b.saving.value"
        @order="(from) => ask([b?.file.value?.path ?? ''], from)"
        @download="(from) => b?.save([b.file.value?.path ?? ''], false, from)"
        @versions="b.findVersions(everywhere)"
        @close="b.close"
      />
    </div>
  </template>
</template>
