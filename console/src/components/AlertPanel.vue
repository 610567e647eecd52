<script setup lang="ts">
import { onMounted } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api } from '../api/client'
import { useEvents } from '../composables/useEvents'
import { useLoad } from '../composables/useLoad'
import { placeOf } from '../logic/alerts'
import { many } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'
import TerminalHint from './TerminalHint.vue'

/** What needs somebody's attention, the worst first. While nothing does it is not there, unless it is to say so. */
defineProps<{ sayIfNone?: boolean }>()
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/alerts')))
useEvents((event) => void (event.what === 'office' && reload()), reload)
onMounted(reload)
</script>

<template>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <section v-if="data?.alerts.length" class="jf-panel jf-alarm mb-4" aria-labelledby="attention">
    <h2 id="attention">{{ many(data.alerts.length, 'thing') }} {{ data.alerts.length === 1 ? 'needs' : 'need' }} attention</h2>
    <ul class="mb-0">
      <li v-for="one in data.alerts" :key="`${one.kind} ${one.subject}`">
        <strong>{{ one.says }}</strong> <RouterLink :to="placeOf(one).to">{{ placeOf(one).text }}</RouterLink>
        <span class="jf-quiet d-block">{{ one.next }}</span>
        <TerminalHint v-if="one.command" :command="one.command" :where="one.at_workstation ? one.subject : undefined" />
      </li>
    </ul>
  </section>
  <p v-else-if="sayIfNone && data" class="jf-panel">Nothing needs attention.</p>
</template>
