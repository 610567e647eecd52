<script setup lang="ts">
import { RouterLink } from 'vue-router'
import type { Workstation } from '../api/types'
import type { Column } from '../logic/workstationList'
import ShareBar from './ShareBar.vue'
import SortHeading from './SortHeading.vue'
import StateWord from './StateWord.vue'

/** Workstations, one a line. Where something can be done with several they can be chosen. */
defineProps<{
  workstations: Workstation[]
  columns: Column[]
  now: Date
  sort: string
  descending: boolean
  mayChoose: boolean
  isChosen: (id: string) => boolean
  all: 'all' | 'some' | 'none'
}>()
const emit = defineEmits<{ sort: [by: string, descending: boolean]; choose: [workstation: Workstation]; chooseAll: [] }>()
const isIncluded = (workstation: Workstation) => !['retired', 'unclaimed'].includes(workstation.state)
</script>

<template>
  <div class="jf-panel table-responsive" tabindex="0" role="region" aria-label="Workstations">
    <table class="table table-sm table-hover align-middle">
      <thead>
        <tr>
          <th v-if="mayChoose" scope="col"><input type="checkbox" class="form-check-input" aria-label="Choose all that are shown" :checked="all === 'all'" :indeterminate="all === 'some'" @change="emit('chooseAll')" /></th>
          <SortHeading title="Workstation" by="name" :sort="sort" :descending="descending" @sort="(by, down) => emit('sort', by, down)" />
          <SortHeading v-for="c in columns" :key="c.key" :class="{ 'jf-number': c.isNumber }" :title="c.title" :by="c.by" :sort="sort" :descending="descending" @sort="(by, down) => emit('sort', by, down)" />
        </tr>
      </thead>
      <tbody>
        <tr v-for="w in workstations" :key="w.id">
          <td v-if="mayChoose"><input v-if="isIncluded(w)" type="checkbox" class="form-check-input" :aria-label="`Choose ${w.name}`" :checked="isChosen(w.id)" @change="emit('choose', w)" /></td>
          <th scope="row"><RouterLink :to="{ name: 'workstation', params: { id: w.id } }">{{ w.name }}</RouterLink></th>
          <td v-for="c in columns" :key="c.key" :class="{ 'jf-number': c.isNumber, 'jf-bad': c.isBad?.(w) }" :title="c.more?.(w)">
            <StateWord v-if="c.key === 'state'" :state="w.store.suspect ? 'suspect' : w.state" />
            <template v-else>{{ c.text(w, now) }}</template>
            <ShareBar v-if="c.share?.(w, now) !== undefined" :share="c.share(w, now) ?? 0" />
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
