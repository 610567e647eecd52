<script setup lang="ts">
import { onMounted, ref, watch } from 'vue'
import { post, ProblemError } from '../api/client'
import type { LimitAdvice } from '../api/types'

/** What a limit would mean, said while it is typed. `undefined` is text that is no size yet. */
const props = defineProps<{ workstation: string; limit: number | null | undefined }>()
const PAUSE_MS = 250
const says = ref<string[]>([])
let timer: ReturnType<typeof setTimeout> | undefined
let asked = 0

async function ask(): Promise<void> {
  asked += 1
  const mine = asked
  try {
    const advice = await post<LimitAdvice>('/advice/limit', { workstation: props.workstation, limit: props.limit })
    // An answer that was overtaken says nothing any more.
    if (mine === asked) says.value = advice.says
  } catch (error) {
    // Advice is no condition for saving.
    if (!(error instanceof ProblemError)) throw error
  }
}
watch(
  () => props.limit,
  (limit) => {
    clearTimeout(timer)
    if (limit !== undefined) timer = setTimeout(() => void ask(), PAUSE_MS)
  },
)
onMounted(ask)
</script>

<template>
  <div role="status" class="small jf-quiet mt-1">
    <div v-for="line in says" :key="line">{{ line }}</div>
  </div>
</template>
