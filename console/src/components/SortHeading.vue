<script setup lang="ts">
import { computed } from 'vue'

/** The heading of a column by which a list can be sorted. */
const props = defineProps<{ title: string; by?: string; sort: string; descending: boolean }>()
const emit = defineEmits<{ sort: [by: string, descending: boolean] }>()
const isSorted = computed(() => props.by === props.sort)
const order = computed(() => (!isSorted.value ? undefined : props.descending ? 'descending' : 'ascending'))
</script>

<template>
  <th scope="col" :aria-sort="order">
    <button v-if="by" type="button" class="jf-sort" @click="emit('sort', by, isSorted && !descending)">
      {{ title }}<span aria-hidden="true">{{ isSorted ? (descending ? ' ▾' : ' ▴') : '' }}</span>
    </button>
    <template v-else>{{ title }}</template>
  </th>
</template>
