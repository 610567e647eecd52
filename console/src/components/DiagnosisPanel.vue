<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import type { LastDiagnosis } from '../api/types'
import { mark, remarkable, verdict, whose } from '../logic/diagnosis'
import { age, moment } from '../logic/format'
import TerminalHint from './TerminalHint.vue'

/** What a workstation found out about itself last, when somebody diagnosed it there. */
const props = defineProps<{ last: LastDiagnosis; now: Date }>()
const all = ref(false)
const shown = computed(() => (all.value ? (props.last.found?.steps ?? []) : remarkable(props.last)))
</script>

<template>
  <section class="jf-panel mb-3" aria-labelledby="diagnosis">
    <h2 id="diagnosis">Diagnosis</h2>
    <p class="mb-2" :class="{ 'jf-bad': last.found && !last.found.well }">
      {{ verdict(last) }}
      <span v-if="last.at" class="jf-quiet" :title="moment(last.at)">Made {{ age(last.at, now) }}.</span>
      <template v-else>Its person can have everything tried that a backup needs; what is found is shown here.</template>
    </p>
    <TerminalHint v-if="!last.at" command="jetfrost diagnose" where="the workstation" />
    <ul v-if="shown.length" class="jf-checks">
      <li v-for="line in shown" :key="line.step">
        <span class="jf-state" :class="mark(line).mood">{{ mark(line).word }}</span>
        <span>
          {{ line.says }}
          <span v-if="line.next" class="d-block">{{ whose(line) }}{{ line.next }}</span>
        </span>
      </li>
    </ul>
    <BButton v-if="last.found" size="sm" variant="outline-secondary" :aria-expanded="all" @click="all = !all">
      {{ all ? 'Show fewer steps' : `Show all ${last.found.steps.length} steps` }}
    </BButton>
  </section>
</template>
