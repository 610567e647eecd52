<script setup lang="ts">
import { computed } from 'vue'
import { words } from '../logic/format'

/** A state in words, with a mark that does not depend on seeing colours. */
const props = defineProps<{ state: string }>()
const CALM = ['current', 'complete', 'ready', 'unused', 'done', 'active', 'fit', 'dismissed']
const BAD = ['overdue', 'failed', 'missing', 'foreign', 'full', 'lost', 'unfit', 'erasing', 'suspect']
const mood = computed(() => (CALM.includes(props.state) ? 'is-calm' : BAD.includes(props.state) ? 'is-bad' : 'is-warn'))
</script>

<template>
  <span class="jf-state" :class="mood">{{ words(state) }}</span>
</template>
