<script setup lang="ts">
import { BButton, BSpinner } from 'bootstrap-vue-next'
import { parentOf, shown, shownName } from '../image/path'
import { many, moment, size } from '../logic/format'
import type { Hit } from '../worker/protocol'

/** What a search found. */
defineProps<{ found: { wanted: string; hits: Hit[]; isDone: boolean; isCut: boolean; lost: string[] }; most: number }>()
const emit = defineEmits<{ go: [hit: Hit]; stop: []; close: [] }>()
</script>

<template>
  <div class="d-flex align-items-baseline gap-3 mb-2" role="status">
    <strong>{{ found.isCut ? `The first ${most}` : found.hits.length === 0 ? (found.isDone ? 'Nothing' : 'Nothing yet') : found.hits.length }} for “{{ found.wanted }}”</strong>
    <span v-if="!found.isDone" class="jf-quiet"><BSpinner small /> Searching… <BButton size="sm" variant="outline-secondary" class="ms-2" @click="emit('stop')">Stop</BButton></span>
    <BButton size="sm" variant="outline-secondary" class="ms-auto" @click="emit('close')">Back to the folder</BButton>
  </div>
  <p v-if="found.isCut" class="jf-quiet">There are more: type more of the name.</p>
  <p v-if="found.lost.length" class="jf-bad">{{ many(found.lost.length, 'folder') }} could not be searched, since a piece of the image store is damaged: {{ found.lost.slice(0, 5).map(shown).join(', ') }}</p>
  <table v-if="found.hits.length" class="table table-sm align-middle">
    <thead>
      <tr>
        <th scope="col">Name</th>
        <th scope="col" class="d-none d-md-table-cell">Folder</th>
        <th scope="col" class="jf-number d-none d-md-table-cell">Size</th>
        <th scope="col" class="d-none d-md-table-cell">Modified</th>
        <th scope="col" class="jf-number">Latest in</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="hit in found.hits" :key="hit.entry.path">
        <th scope="row" class="fw-normal text-break">
          <button type="button" class="btn btn-link p-0 text-start" @click="emit('go', hit)">{{ shownName(hit.entry.path) }}{{ hit.entry.kind === 'folder' ? '/' : '' }}</button>
          <span class="jf-quiet small d-block d-md-none">{{ shown(parentOf(hit.entry.path)) }}</span>
        </th>
        <td class="text-break d-none d-md-table-cell">{{ shown(parentOf(hit.entry.path)) }}</td>
        <td class="jf-number d-none d-md-table-cell">{{ hit.entry.kind === 'folder' ? '–' : size(hit.entry.bytes) }}</td>
        <td class="text-nowrap d-none d-md-table-cell">{{ moment(new Date(hit.entry.modified).toISOString()) }}</td>
        <td class="jf-number">{{ hit.point }}</td>
      </tr>
    </tbody>
  </table>
</template>
