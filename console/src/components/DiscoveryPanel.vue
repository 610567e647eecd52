<script setup lang="ts">
import { BButton, BFormCheckbox, BFormCheckboxGroup } from 'bootstrap-vue-next'
import { computed, onMounted, ref, watch } from 'vue'
import { answer, api, since } from '../api/client'
import type { Discovery, DiscoverySettings } from '../api/types'
import { useEvents } from '../composables/useEvents'
import { useEdit } from '../composables/useEdit'
import { useLoad } from '../composables/useLoad'
import type { Line } from '../logic/edit'
import EditAlert from './EditAlert.vue'
import ProblemAlert from './ProblemAlert.vue'
import RuledInput from './RuledInput.vue'

/** Whether workstations find the service by themselves. */
defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/discovery')))
useEvents((event) => void (event.what === 'office' && reload()), reload)

const announce = ref(true)
const name = ref('')
const all = ref(true)
const chosen = ref<string[]>([])
const offered = computed(() => {
  const here = data.value?.interfaces.map((i) => ({ value: i.name, text: `${i.name} (${i.addresses.join(', ')})` })) ?? []
  const gone = chosen.value.filter((c) => !here.some((i) => i.value === c)).map((c) => ({ value: c, text: `${c} (not there)` }))
  return [...here, ...gone]
})
const says = computed(() => {
  switch (data.value?.state) {
    case 'announced':
      return `Announced as “${data.value.announced_as}”.`
    case 'silent':
      return 'Not announced, as was decided.'
    case 'backups_paused':
      return 'Not announced while new backups are paused.'
    case 'no_interface':
      return 'Not announced: the service listens on none of the chosen interfaces.'
    default:
      return `Not announced: ${data.value?.trouble ?? 'the network refused'}.`
  }
})
const mine = (): DiscoverySettings => ({ announce: announce.value, name: name.value.trim() || null, interfaces: all.value ? [] : chosen.value })
const lines = (s: DiscoverySettings): Line[] => [
  ['Announce the service on the local network', s.announce ? 'yes' : 'no'],
  ['Name to show', s.name ?? ''],
  ['Interfaces', [...(s.interfaces ?? [])].sort().join(', ') || 'all'],
]
const saving = useEdit<Discovery>({
  load: () => answer(api.GET('/api/v1/discovery')),
  version: (d) => d.version,
  fill: ({ settings }) => {
    announce.value = settings.announce
    name.value = settings.name ?? ''
    chosen.value = [...(settings.interfaces ?? [])]
    all.value = chosen.value.length === 0
  },
  lines: (d) => lines(d.settings),
  mine: () => lines(mine()),
  save: async (version) => {
    const now = await answer(api.PUT('/api/v1/discovery', { body: mine(), ...since(version) }))
    saving.begin(now)
    data.value = now
  },
})
watch(data, (now) => now && saving.refresh(now))
onMounted(reload)
</script>

<template>
  <section class="jf-panel mb-4" aria-labelledby="discovery">
    <h2 id="discovery">Being found</h2>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <template v-if="data">
      <p class="mb-2" role="status"><strong>{{ says }}</strong> <span class="jf-quiet">Enrolment codes carry the address in any case; discovery is a convenience.</span></p>
      <form v-if="mayChange" @submit.prevent="saving.submit">
        <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
        <BFormCheckbox v-model="announce">Announce the service on the local network</BFormCheckbox>
        <div v-if="announce" class="row g-3 mt-0">
          <RuledInput id="discovery-name" v-model="name" label="Name to show" rule="announced-name" description="Empty for the usual one." column="col-4" />
          <div v-if="offered.length" class="col-8">
            <BFormCheckbox v-model="all">On all interfaces</BFormCheckbox>
            <BFormCheckboxGroup v-if="!all" v-model="chosen" :options="offered" stacked aria-label="Interfaces" />
          </div>
        </div>
        <BButton type="submit" variant="primary" class="mt-2" :disabled="saving.busy.value || (!all && !chosen.length)">Save</BButton>
      </form>
      <details class="mt-3">
        <summary>Workstations behind a router</summary>
        <p class="mb-1 mt-2">Add these records to the zone of the office’s domain:</p>
        <pre class="mb-0 small" tabindex="0">{{ data.records.join('\n') }}</pre>
      </details>
    </template>
  </section>
</template>
