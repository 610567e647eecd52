<script setup lang="ts">
import { answer, api } from '../api/client'
import { useAdvice } from '../composables/useAdvice'
import AdviceLines from './AdviceLines.vue'

/** What a capacity would mean, said while it is typed. `undefined` is text that is no size yet. */
const props = defineProps<{ destination?: string; directory?: string; capacity: number | null | undefined; reserve?: number; defaultLimit?: number | null }>()
const says = useAdvice(
  () => [props.capacity, props.reserve, props.defaultLimit, props.directory],
  () => {
    if (props.capacity === undefined || (!props.destination && !props.directory)) return undefined
    const { destination, directory, capacity, reserve, defaultLimit } = props
    return answer(api.POST('/api/v1/advice/capacity', { body: { destination, directory, capacity, reserve, default_limit: defaultLimit } }))
  },
)
</script>

<template>
  <AdviceLines :says="says" />
</template>
