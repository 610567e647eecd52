<script setup lang="ts">
import { BButton, BFormCheckbox, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { answer, api } from '../api/client'
import type { AuditCheck } from '../api/types'
import { useAddress } from '../composables/useAddress'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { saidOfCheck, saidOfHeads } from '../logic/audit'
import { count, moment } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** What was done and refused, by whom, when and from where. */
const { shown, show } = useAddress(['text', 'who', 'refused', 'after'] as const)
const text = ref('')
const who = ref('')
const refused = ref(false)
const found = ref<AuditCheck>()
const filters = computed(() => ({ text: shown.value.text || undefined, who: shown.value.who || undefined, refused: shown.value.refused ? true : undefined }))
const query = computed(() => new URLSearchParams(Object.entries(filters.value).flatMap(([name, value]) => (value === undefined ? [] : [[name, String(value)]]))).toString())
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/audit', { params: { query: { most: 50, ...filters.value, after: shown.value.after || undefined } } })))
const checking = useForm(async () => {
  found.value = await answer(api.GET('/api/v1/audit/check'))
})
const filter = () => show({ text: text.value, who: who.value, refused: refused.value ? 'yes' : '', after: '' })
watch(
  shown,
  (now) => {
    text.value = now.text
    who.value = now.who
    refused.value = !!now.refused
    void reload()
  },
  { immediate: true },
)
</script>

<template>
  <section class="mb-4" aria-labelledby="audit">
    <h2 id="audit">Audit log</h2>
    <ProblemAlert :problem="problem ?? checking.problem.value" retry @retry="reload" />
    <form class="d-flex flex-wrap gap-3 align-items-end mb-3" @submit.prevent="filter">
      <BFormGroup label="Text" label-for="audit-text"><BFormInput id="audit-text" v-model="text" /></BFormGroup>
      <BFormGroup label="Who" label-for="audit-who"><BFormInput id="audit-who" v-model="who" /></BFormGroup>
      <BFormCheckbox v-model="refused" class="mb-2">Only refusals</BFormCheckbox>
      <BButton type="submit" variant="outline-secondary">Show</BButton>
      <a class="mb-2 ms-auto" :href="`/api/v1/audit/export?form=csv&${query}`" download>Export as CSV</a>
      <a class="mb-2" :href="`/api/v1/audit/export?form=json_lines&${query}`" download>as JSON lines</a>
      <BButton variant="outline-secondary" :disabled="checking.busy.value" @click="checking.submit">Check the chain</BButton>
    </form>
    <div v-if="found" role="status" class="jf-note mb-3">
      {{ saidOfCheck(found) }}
      {{ found.unchained ? `${count(found.unchained)} are from versions that did not chain them.` : '' }}
      <ul v-if="found.heads.length" class="mb-0 mt-2">
        <li v-for="heads in found.heads" :key="heads.destination">{{ saidOfHeads(heads) }}</li>
      </ul>
      <template v-if="found.last_link">Last link, for your own notes: <span class="jf-code">{{ found.last_link }}</span></template>
    </div>
    <div class="jf-panel table-responsive" tabindex="0" role="region" aria-label="Entries of the audit log">
      <p v-if="data && !data.items.length" class="mb-0">There is no such entry.</p>
      <table v-else class="table table-sm mb-0">
        <thead>
          <tr>
            <th scope="col">When</th>
            <th scope="col">Who</th>
            <th scope="col">From</th>
            <th scope="col">What</th>
            <th scope="col">To</th>
            <th scope="col">How it was and is</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="e in data?.items" :key="e.number">
            <td class="text-nowrap">{{ moment(e.at) }}</td>
            <td>{{ e.who }}</td>
            <td>{{ e.from || '–' }}</td>
            <td>{{ e.what }}{{ e.refused ? ' (refused)' : '' }}</td>
            <td>{{ e.subject }}</td>
            <td class="small">
              <div v-if="e.before" class="jf-quiet">was: {{ e.before }}</div>
              <div v-if="e.after">{{ e.before ? 'is: ' : '' }}{{ e.after }}</div>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <div class="mt-2 d-flex gap-2">
      <BButton v-if="shown.after" size="sm" variant="outline-secondary" @click="show({ after: '' })">Latest</BButton>
      <BButton v-if="data?.next" size="sm" variant="outline-secondary" @click="show({ after: data.next })">Older</BButton>
    </div>
  </section>
</template>
