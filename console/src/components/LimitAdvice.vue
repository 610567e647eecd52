<script setup lang="ts">
import { answer, api } from '../api/client'
import { useAdvice } from '../composables/useAdvice'
import AdviceLines from './AdviceLines.vue'

/** What a limit would mean, said while it is typed. `undefined` is text that is no size yet. */
const props = defineProps<{ workstation: string; limit: number | null | undefined }>()
const says = useAdvice(
  () => props.limit,
  () => (props.limit === undefined ? undefined : answer(api.POST('/api/v1/advice/limit', { body: { workstation: props.workstation, limit: props.limit } }))),
)
</script>

<template>
  <AdviceLines :says="says" />
</template>
