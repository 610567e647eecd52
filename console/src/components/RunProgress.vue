<script setup lang="ts">
import { BProgress } from 'bootstrap-vue-next'
import { computed } from 'vue'
import type { Progress } from '../api/types'
import { count, duration, size } from '../logic/format'
import { pace } from '../logic/progress'

const props = defineProps<{ progress: Progress; started: string; now: Date; label: string }>()
const PHASES = { counting: 'Counting', sending: 'Copying', sealing: 'Sealing', comparing: 'Reading back' }
const current = computed(() => pace(props.progress, props.started, props.now))
const told = computed(() => {
  const p = props.progress
  const of = (done: string, total?: string) => (total ? `${done} of ${total}` : done)
  const files = of(count(p.files_done), p.files_total == null ? undefined : count(p.files_total))
  const bytes = of(size(p.bytes_done), p.bytes_total == null ? undefined : size(p.bytes_total))
  const left = current.value.secondsLeft
  return `${files} files · ${bytes} · ${size(current.value.bytesPerSecond)}/s${left === undefined ? '' : ` · ${duration(left)} left`}`
})
</script>

<template>
  <div>
    <div class="d-flex justify-content-between">
      <strong>{{ PHASES[progress.phase] }}</strong>
      <span class="jf-quiet">{{ told }}</span>
    </div>
    <BProgress :value="current.percent ?? 0" :max="100" :aria-label="label" height="0.6rem" />
  </div>
</template>
