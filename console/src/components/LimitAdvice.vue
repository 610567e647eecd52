<script setup lang="ts">
import { post } from '../api/client'
import type { LimitAdvice } from '../api/types'
import { useAdvice } from '../composables/useAdvice'
import AdviceLines from './AdviceLines.vue'

/** What a limit would mean, said while it is typed. `undefined` is text that is no size yet. */
const props = defineProps<{ workstation: string; limit: number | null | undefined }>()
const says = useAdvice(
  () => props.limit,
  () => (props.limit === undefined ? undefined : post<LimitAdvice>('/advice/limit', { workstation: props.workstation, limit: props.limit })),
)
</script>

<template>
  <AdviceLines :says="says" />
</template>
