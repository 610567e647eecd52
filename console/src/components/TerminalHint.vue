<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { ref } from 'vue'

/** A command for those who would rather type it; `where` is the machine that it is for, if that is not one's own. */
const props = defineProps<{ command: string; where?: string }>()
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(props.command)
  copied.value = true
}
</script>

<template>
  <details class="jf-terminal small">
    <summary>{{ where ? `In a terminal on ${where}` : 'In a terminal' }}</summary>
    <code>{{ command }}</code>
    <BButton size="sm" variant="outline-secondary" class="ms-2" :aria-label="`Copy ${command}`" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</BButton>
  </details>
</template>
