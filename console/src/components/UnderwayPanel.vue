<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { answer, api, at } from '../api/client'
import type { Restore, Workstation } from '../api/types'
import { useForm } from '../composables/useForm'
import { restoreWords, whoText } from '../logic/restore'
import ProblemAlert from './ProblemAlert.vue'
import RunProgress from './RunProgress.vue'

/** What goes on at a workstation now; a restore can be cancelled. */
const props = defineProps<{ workstation: Workstation; restores: Restore[]; now: Date }>()
const running = computed(() => (props.workstation.latest_run?.outcome === 'underway' ? props.workstation.latest_run : undefined))
const restoring = computed(() => props.restores.filter((r) => r.outcome === 'underway'))
const toCancel = ref<Restore>()
const cancelling = useForm(async () => {
  if (toCancel.value) await answer(api.POST('/api/v1/restores/{id}/cancellation', at({ id: toCancel.value.id })))
})
function cancel(restore: Restore) {
  toCancel.value = restore
  void cancelling.submit()
}
</script>

<template>
  <ProblemAlert :problem="cancelling.problem.value" />
  <section v-if="running" class="jf-panel mb-3" aria-label="Run underway">
    <RunProgress :progress="running.progress" :started="running.started" :now="now" label="Progress of the backup" />
  </section>
  <section v-for="r in restoring" :key="r.id" class="jf-panel mb-3" aria-label="Restore underway">
    <div class="d-flex align-items-baseline gap-3 mb-1">
      <span>{{ restoreWords(r) }}, {{ whoText(r) }}</span>
      <span v-if="r.cancelled_by" class="jf-quiet ms-auto">cancelled by {{ r.cancelled_by }}, ending…</span>
      <BButton v-else size="sm" variant="outline-secondary" class="ms-auto" :aria-label="`Cancel: ${restoreWords(r)}`" @click="cancel(r)">Cancel</BButton>
    </div>
    <RunProgress :progress="r.progress" :started="r.started" :now="now" label="Progress of the restore" />
  </section>
</template>
