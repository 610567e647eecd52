<script setup lang="ts">
import { computed } from 'vue'

/** A thin bar under a figure that says the same in words. */
const props = defineProps<{ share: number }>()
const width = computed(() => `${Math.round(Math.min(Math.max(props.share, 0), 1) * 100)}%`)
</script>

<template>
  <span class="jf-share" aria-hidden="true"><span :class="{ 'is-full': share >= 1 }" :style="{ width }"></span></span>
</template>
