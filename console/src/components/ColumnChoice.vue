<script setup lang="ts" generic="Key extends string">
import { BFormCheckbox } from 'bootstrap-vue-next'

/** Chooses which columns a list has. */
defineProps<{ all: readonly { key: Key; title: string }[]; shown: Key[] }>()
const emit = defineEmits<{ toggle: [key: Key] }>()
</script>

<template>
  <details class="jf-drop">
    <summary class="btn btn-sm btn-outline-secondary">Columns</summary>
    <div class="jf-panel">
      <BFormCheckbox v-for="column in all" :key="column.key" :model-value="shown.includes(column.key)" @update:model-value="emit('toggle', column.key)">{{ column.title }}</BFormCheckbox>
    </div>
  </details>
</template>
