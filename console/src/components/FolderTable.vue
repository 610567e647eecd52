<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import type { RawPath } from '../image/path'
import { shownName } from '../image/path'
import { count, moment, size } from '../logic/format'
import type { ShownEntry } from '../worker/protocol'

/** What is in a folder of the past. */
defineProps<{ entries: ShownEntry[]; total: number; selected: Set<RawPath>; current?: RawPath }>()
const emit = defineEmits<{ folder: [path: RawPath]; file: [entry: ShownEntry]; more: []; toggle: [path: RawPath] }>()

const KINDS: Partial<Record<ShownEntry['kind'], string>> = { link: 'link', fifo: 'pipe', socket: 'socket', 'character-device': 'device', 'block-device': 'disk' }
</script>

<template>
  <p v-if="total === 0" class="mb-0">This folder is empty in this point.</p>
  <template v-else>
    <table class="table table-sm align-middle">
      <thead>
        <tr>
          <th scope="col"><span class="visually-hidden">Select</span></th>
          <th scope="col">Name</th>
          <th scope="col" class="jf-number">Size</th>
          <th scope="col" class="d-none d-md-table-cell">Modified</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="entry in entries" :key="entry.path" :class="{ 'jf-current': entry.path === current }">
          <td>
            <input
              class="form-check-input"
              type="checkbox"
              :checked="selected.has(entry.path)"
              :aria-label="`Select ${shownName(entry.path)}`"
              @change="emit('toggle', entry.path)"
            />
          </td>
          <th scope="row" class="fw-normal text-break">
            <button v-if="entry.kind === 'folder'" type="button" class="btn btn-link p-0 text-start fw-semibold" @click="emit('folder', entry.path)">{{ shownName(entry.path) }}/</button>
            <button v-else-if="entry.kind === 'file'" type="button" class="btn btn-link p-0 text-start" @click="emit('file', entry)">{{ shownName(entry.path) }}</button>
            <template v-else>
              {{ shownName(entry.path) }} <span class="jf-quiet">{{ KINDS[entry.kind] }}<template v-if="entry.target"> to {{ entry.target }}</template></span>
            </template>
            <span class="jf-quiet small d-block d-md-none">{{ moment(new Date(entry.modified).toISOString()) }}</span>
            <span v-if="entry.isPartial" class="jf-quiet small"> {{ entry.kind === 'folder' ? 'could not be listed completely' : 'was changing while it was backed up' }}</span>
          </th>
          <td class="jf-number">{{ entry.kind === 'file' || entry.kind === 'block-device' ? size(entry.bytes) : '–' }}</td>
          <td class="text-nowrap d-none d-md-table-cell">{{ moment(new Date(entry.modified).toISOString()) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="entries.length < total" class="mt-2 mb-0">
      {{ count(entries.length) }} of {{ count(total) }} shown.
      <BButton size="sm" variant="outline-secondary" class="ms-2" @click="emit('more')">Show more</BButton>
    </p>
  </template>
</template>
