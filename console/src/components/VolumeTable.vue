<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import type { Volume } from '../api/types'
import { size } from '../logic/format'
import StateWord from './StateWord.vue'

/** The server's volumes, with a verdict each. */
defineProps<{ volumes: Volume[] }>()
const emit = defineEmits<{ use: [at: string] }>()
</script>

<template>
  <div class="jf-panel table-responsive">
    <table class="table table-sm align-middle mb-0">
      <thead>
        <tr>
          <th scope="col">Mounted at</th>
          <th scope="col">File system</th>
          <th scope="col">Device</th>
          <th scope="col" class="jf-number">Free</th>
          <th scope="col" class="jf-number">Size</th>
          <th scope="col">Holds</th>
          <th scope="col">Verdict</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="v in volumes" :key="v.mounted_at">
          <th scope="row">{{ v.mounted_at }}</th>
          <td>{{ v.file_system }}</td>
          <td>{{ v.device }}{{ v.removable ? ' (removable)' : '' }}</td>
          <td class="jf-number">{{ size(v.free) }}</td>
          <td class="jf-number">{{ size(v.size) }}</td>
          <td>{{ v.holds.map((h) => (h.ours ? h.name : `${h.name} (another installation’s)`)).join(', ') || '–' }}</td>
          <td>
            <StateWord :state="v.fitness" />
            <div v-for="reason in v.reasons" :key="reason" class="small jf-quiet">{{ reason }}</div>
          </td>
          <td class="text-end">
            <BButton v-if="v.fitness !== 'unfit'" size="sm" variant="outline-secondary" :aria-label="`Use ${v.mounted_at}`" @click="emit('use', v.mounted_at)">Use</BButton>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
