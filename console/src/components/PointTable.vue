<script setup lang="ts">
import type { Point } from '../api/types'
import { age, count, moment, size } from '../logic/format'

defineProps<{ points: Point[]; now: Date }>()
</script>

<template>
  <table class="table table-sm align-middle">
    <thead>
      <tr>
        <th scope="col" class="jf-number">Point</th>
        <th scope="col">Made</th>
        <th scope="col" class="jf-number">Files</th>
        <th scope="col" class="jf-number">Size</th>
        <th scope="col" class="jf-number">Sent</th>
        <th scope="col" class="jf-number">Exceptions</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="p in points" :key="p.sequence">
        <th scope="row" class="jf-number">{{ p.sequence }}</th>
        <td>{{ moment(p.created) }} <span class="jf-quiet">{{ age(p.created, now) }}</span></td>
        <td class="jf-number">{{ count(p.files) }}</td>
        <td class="jf-number">{{ size(p.bytes) }}</td>
        <td class="jf-number">{{ size(p.sent) }}</td>
        <td class="jf-number">{{ p.exceptions === 0 ? '–' : count(p.exceptions) }}</td>
      </tr>
    </tbody>
  </table>
</template>
