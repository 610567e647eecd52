<script setup lang="ts">
import { onMounted, ref, watch } from 'vue'
import { post, ProblemError } from '../api/client'
import type { CapacityAdvice } from '../api/types'

/** What a capacity would mean, said while it is typed. `undefined` is text that is no size yet. */
const props = defineProps<{ destination?: string; directory?: string; capacity: number | null | undefined; reserve?: number; defaultLimit?: number | null }>()
const PAUSE_MS = 250
const says = ref<string[]>([])
let timer: ReturnType<typeof setTimeout> | undefined
let asked = 0

async function ask(): Promise<void> {
  if (props.capacity === undefined || (!props.destination && !props.directory)) return
  asked += 1
  const mine = asked
  try {
    const advice = await post<CapacityAdvice>('/advice/capacity', {
      destination: props.destination,
      directory: props.directory,
      capacity: props.capacity,
      reserve: props.reserve,
      default_limit: props.defaultLimit,
    })
    // An answer that was overtaken says nothing any more.
    if (mine === asked) says.value = advice.says
  } catch (error) {
    // Advice is no condition for saving.
    if (!(error instanceof ProblemError)) throw error
    says.value = []
  }
}
watch([() => props.capacity, () => props.reserve, () => props.defaultLimit, () => props.directory], () => {
  clearTimeout(timer)
  timer = setTimeout(() => void ask(), PAUSE_MS)
})
onMounted(ask)
</script>

<template>
  <div role="status" class="small jf-quiet mt-1">
    <div v-for="line in says" :key="line">{{ line }}</div>
  </div>
</template>
