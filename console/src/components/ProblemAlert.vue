<script setup lang="ts">
import { BAlert, BButton } from 'bootstrap-vue-next'
import type { Problem } from '../api/types'

defineProps<{ problem?: Problem; retry?: boolean }>()
const emit = defineEmits<{ retry: [] }>()
const whose = { administrator: 'The administrator’s move.', workstation: 'The move is at the workstation.', caller: '', service: '' }
</script>

<template>
  <BAlert v-if="problem" :model-value="true" variant="danger" class="mb-3">
    <strong>{{ problem.title }}</strong>
    <div v-if="problem.detail">{{ problem.detail }}</div>
    <div>{{ whose[problem.whose_move] }} {{ problem.next_step }}</div>
    <div v-if="problem.request" class="small">Number in the log: {{ problem.request }}</div>
    <BButton v-if="retry" size="sm" variant="outline-danger" class="mt-2" @click="emit('retry')">Try again</BButton>
  </BAlert>
</template>
