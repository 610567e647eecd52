<script setup lang="ts">
import { BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, onMounted, ref, watch } from 'vue'
import { api, list } from '../api/client'
import { useLater } from '../composables/useLater'
import { useLoad } from '../composables/useLoad'
import { words } from '../logic/format'

/** Which workstations are looked for. */
export interface Filters {
  text: string
  state: string
  destination: string
  group: string
}
const props = defineProps<{ filters: Filters; seesOffice: boolean }>()
const emit = defineEmits<{ change: [changes: Partial<Filters>, isStep: boolean] }>()
const STATES = ['overdue', 'first_point_awaited', 'current', 'unclaimed', 'retired']
const { data, reload } = useLoad(async () => {
  const [destinations, groups] = await Promise.all([list(() => api.GET('/api/v1/destinations')), list((query) => api.GET('/api/v1/groups', { params: { query } }))])
  return { destinations, groups }
})
const options = (all: string, of: { id: string; name: string }[]) => [{ value: '', text: all }, ...of.map(({ id, name }) => ({ value: id, text: name }))]
const states = [{ value: '', text: 'Any state' }, ...STATES.map((state) => ({ value: state, text: words(state) }))]
const destinations = computed(() => options('Any destination', data.value?.destinations ?? []))
const groups = computed(() => options('Any group', data.value?.groups ?? []))

// Letters stay as they are typed, however long the service takes.
const text = ref(props.filters.text)
const { later } = useLater(() => emit('change', { text: text.value }, false))
watch(text, (typed) => typed !== props.filters.text && later())
watch(
  () => props.filters.text,
  (shown) => (text.value = shown),
)
onMounted(() => props.seesOffice && void reload())
</script>

<template>
  <form class="d-flex flex-wrap gap-2" role="search" aria-label="Which workstations" @submit.prevent>
    <BFormInput id="words" v-model="text" type="search" size="sm" class="jf-filter" aria-label="Words" placeholder="Name, person, group, system…" />
    <BFormSelect :model-value="filters.state" :options="states" size="sm" class="jf-select" aria-label="State" @update:model-value="(state) => emit('change', { state: String(state) }, true)" />
    <template v-if="seesOffice">
      <BFormSelect :model-value="filters.destination" :options="destinations" size="sm" class="jf-select" aria-label="Destination" @update:model-value="(id) => emit('change', { destination: String(id) }, true)" />
      <BFormSelect :model-value="filters.group" :options="groups" size="sm" class="jf-select" aria-label="Group" @update:model-value="(id) => emit('change', { group: String(id) }, true)" />
    </template>
  </form>
</template>
