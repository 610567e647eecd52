<script setup lang="ts">
import { BSpinner } from 'bootstrap-vue-next'
import { onMounted } from 'vue'
import { answer, api } from '../api/client'
import ProblemAlert from '../components/ProblemAlert.vue'
import { useLoad } from '../composables/useLoad'
import { size } from '../logic/format'
import { installing } from '../logic/downloads'

/** The program for workstations, for a machine that has nothing yet: anybody sees it. */
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/downloads')))
onMounted(reload)
</script>

<template>
  <div class="col-12 col-lg-8 col-xl-6 mx-auto mt-4">
    <h1 class="mb-1">Get the program</h1>
    <p class="jf-quiet">It backs this machine up. Your administrator put it here.</p>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <p v-if="!data && !problem" class="jf-quiet"><BSpinner small /> Loading…</p>
    <p v-else-if="data && data.files.length === 0" class="jf-panel">There is nothing here yet. Ask your administrator for the program.</p>
    <ol v-else-if="data" class="list-unstyled">
      <li v-for="file in data.files" :key="file.name" class="jf-panel mb-3">
        <h2 class="h6 mb-1">
          <a :href="`/downloads/${encodeURIComponent(file.name)}`" download>{{ file.name }}</a>
          <span class="jf-quiet fw-normal ms-2">{{ size(file.bytes) }}</span>
        </h2>
        <p v-if="installing(file.name)" class="mb-1">To install it, in a terminal:<br /><code class="text-break">{{ installing(file.name) }}</code></p>
        <p class="jf-quiet small mb-0">SHA-256, to compare with your hand-out:<br /><code class="text-break">{{ file.sha256 }}</code></p>
      </li>
    </ol>
    <p v-if="data?.files.length">Then: <code>jetfrost join</code>, with the code of your hand-out.</p>
  </div>
</template>
