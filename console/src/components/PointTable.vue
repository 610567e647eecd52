<script setup lang="ts">
import type { Point } from '../api/types'
import { age, count, many, moment, noun, size } from '../logic/format'
import { isSuspect, pointNote } from '../logic/suspects'
import PointActions from './PointActions.vue'

defineProps<{ points: Point[]; now: Date; store: string; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()
</script>

<template>
  <table class="table table-sm align-middle">
    <thead>
      <tr>
        <th scope="col" class="jf-number">Point</th>
        <th scope="col">Committed</th>
        <th scope="col" class="jf-number">Of</th>
        <th scope="col" class="jf-number">Size</th>
        <th scope="col" class="jf-number">Sent</th>
        <th scope="col" class="jf-number">Exceptions</th>
        <th scope="col">Note</th>
        <th v-if="mayChange" scope="col"><span class="visually-hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(p, i) in points" :key="p.sequence">
        <th scope="row" class="jf-number">{{ p.sequence }}</th>
        <td class="text-nowrap">{{ moment(p.committed) }} <span class="jf-quiet ms-1">{{ age(p.committed, now) }}</span></td>
        <td class="jf-number">{{ many(p.files, noun(p.kind)) }}</td>
        <td class="jf-number">{{ size(p.bytes) }}</td>
        <td class="jf-number">{{ size(p.sent) }}</td>
        <td class="jf-number">{{ p.exceptions === 0 ? '–' : count(p.exceptions) }}</td>
        <td>
          <span v-if="pointNote(p)" :class="{ 'jf-bad': isSuspect(p) }">{{ pointNote(p) }}{{ p.hold || p.lost || p.pending_removal ? '; ' : '' }}</span>
          <template v-if="p.hold">held by {{ p.hold.by }}: {{ p.hold.reason }}</template>
          <template v-else-if="p.lost">its files are lost</template>
          <template v-else-if="p.pending_removal">removed by {{ p.pending_removal.by }}, gone for good {{ moment(p.pending_removal.ends) }}</template>
        </td>
        <td v-if="mayChange"><PointActions :store="store" :point="p" :is-latest="i === 0" @changed="emit('changed')" /></td>
      </tr>
    </tbody>
  </table>
</template>
