<script setup lang="ts">
import { computed, onMounted } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api } from '../api/client'
import { useEvents } from '../composables/useEvents'
import { useLoad } from '../composables/useLoad'
import { words } from '../logic/format'

/** Says that something is left to decide, and which is next. It is not there when nothing is. */
const { data, reload } = useLoad(() => answer(api.GET('/api/v1/setup')))
useEvents((event) => void (event.what !== 'run' && event.what !== 'job' && reload()), reload)
const open = computed(() => data.value?.steps.filter((line) => line.state === 'open') ?? [])
onMounted(reload)
</script>

<template>
  <section v-if="data && !data.ready" class="jf-panel jf-note mb-3" aria-labelledby="setup-note">
    <h2 id="setup-note">Not ready yet</h2>
    <p class="mb-0">
      {{ open.length }} of {{ data.steps.length }} steps of the setup are left{{ open[0] ? `; the next is ${words(open[0].step)}: ${open[0].says}` : '' }}
      <RouterLink :to="{ name: 'setup' }">Go to setup</RouterLink>
    </p>
  </section>
</template>
