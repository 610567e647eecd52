<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { count } from '../logic/format'

/** Which entries of a list are shown, and the way to the others. */
const props = defineProps<{ shown: number; before: number; total: number; next?: string | null; previous?: string | null; loading: boolean }>()
const emit = defineEmits<{ turn: [after: string] }>()
const text = computed(() => (props.total ? `${count(props.before + 1)}–${count(props.before + props.shown)} of ${count(props.total)}` : 'none'))
</script>

<template>
  <nav class="d-flex align-items-center gap-2 mt-2" aria-label="Pages of the list">
    <span role="status">{{ text }}</span>
    <span class="jf-quiet">{{ loading ? 'Loading…' : '' }}</span>
    <template v-if="previous != null || next != null">
      <BButton size="sm" variant="outline-secondary" class="ms-auto" :disabled="previous == null" @click="emit('turn', previous ?? '')">Previous</BButton>
      <BButton size="sm" variant="outline-secondary" :disabled="next == null" @click="emit('turn', next ?? '')">Next</BButton>
    </template>
  </nav>
</template>
