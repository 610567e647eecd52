<script setup lang="ts">
/** Advice, a sentence a line. */
defineProps<{ says: string[] }>()
</script>

<template>
  <div role="status" class="small jf-quiet mt-1">
    <div v-for="line in says" :key="line">{{ line }}</div>
  </div>
</template>
