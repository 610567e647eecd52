<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed, onMounted, ref, watch } from 'vue'
import { answer, api, at } from '../api/client'
import type { Job, Workstation } from '../api/types'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { age, many, moment } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** When every stored byte was last read, what that found, and which points are hurt. */
const props = defineProps<{ workstation: Workstation; now: Date; mayChange: boolean }>()
const here = computed(() => at({ id: props.workstation.store.id }))
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/stores/{id}/integrity', here.value)))
const started = ref<Job>()
const starting = useForm(async () => {
  started.value = await answer(api.POST('/api/v1/stores/{id}/scrub', here.value))
})
const hurt = computed(() => data.value?.damaged_points.map((p) => `${p.sequence} (${p.lost_chunks})`).join(', '))

watch(() => props.workstation, reload)
onMounted(reload)
</script>

<template>
  <section class="jf-panel mb-3" aria-labelledby="integrity">
    <h2 id="integrity">Integrity</h2>
    <ProblemAlert :problem="problem ?? starting.problem.value" retry @retry="reload" />
    <template v-if="data">
      <p class="mb-2">
        <template v-if="data.scrubbed">
          Every stored byte was read and compared {{ age(data.scrubbed, now) }} (<span class="jf-quiet">{{ moment(data.scrubbed) }}</span>).
        </template>
        <template v-else>The stored bytes have not been verified yet; a scrub starts automatically when due.</template>
        <template v-if="!data.lost_chunks"> Everything that its points need is there.</template>
      </p>
      <div v-if="data.lost_chunks" class="jf-note mb-2">
        <strong>{{ many(data.lost_chunks, 'chunk') }} are damaged or gone.</strong>
        Points that need some of them (and how many): {{ hurt }}. The next backup brings what the workstation still has; everything else in these points comes back.
      </div>
      <ul v-if="data.findings.length" class="mb-2">
        <li v-for="finding in data.findings" :key="finding.path"><code>{{ finding.path }}</code>: {{ finding.wrong }}</li>
      </ul>
      <BButton v-if="mayChange && !started" size="sm" variant="outline-secondary" :disabled="starting.busy.value" @click="starting.submit">Scrub now</BButton>
    </template>
    <p v-if="started" role="status" class="mb-0">The scrub was started; Activity shows its progress.</p>
  </section>
</template>
