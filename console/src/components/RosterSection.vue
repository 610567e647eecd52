<script setup lang="ts">
import { BAlert, BButton, BFormGroup, BFormTextarea } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { answer, api, save } from '../api/client'
import type { HandOutForm, RosterDone, RosterPlan } from '../api/types'
import { useForm } from '../composables/useForm'
import { many } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** People and machines from a CSV file: what would change is shown first, then all of it is imported or nothing. */
const emit = defineEmits<{ changed: [] }>()
const table = ref('')
const plan = ref<RosterPlan>()
const done = ref<RosterDone>()
const codes = computed(() => done.value?.codes.map((c) => c.code) ?? [])
const WHAT = { new: 'new', change: 'change' }

async function choose(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  table.value = await file.text()
  await looking.submit()
}
function typed() {
  plan.value = undefined
}
const looking = useForm(async () => {
  done.value = undefined
  plan.value = await answer(api.POST('/api/v1/roster/plan', { body: { table: table.value } }))
})
const bringing = useForm(async () => {
  done.value = await answer(api.POST('/api/v1/roster', { body: { table: table.value } }))
  plan.value = undefined
  emit('changed')
})
let form: HandOutForm = 'html'
const handing = useForm(async () => save(`hand-outs.${form}`, api.POST('/api/v1/hand-outs', { body: { codes: codes.value, form }, parseAs: 'blob' })))
function handOut(as: HandOutForm) {
  form = as
  void handing.submit()
}
let filled = false
const fetching = useForm(async () => save('roster.csv', api.GET('/api/v1/roster', { params: { query: { filled } }, parseAs: 'blob' })))
function template(withOffice: boolean) {
  filled = withOffice
  void fetching.submit()
}
</script>

<template>
  <section class="jf-panel mb-4" aria-labelledby="roster">
    <h2 id="roster">Import people and machines</h2>
    <p class="jf-quiet mb-2">
      Import people and machines from a CSV file: accounts, groups, access, limits and a code for each machine. An import is all or nothing and can be repeated; one more line adds one machine.
    </p>
    <ProblemAlert :problem="looking.problem.value ?? bringing.problem.value ?? handing.problem.value ?? fetching.problem.value" />
    <BAlert v-if="done" :model-value="true" variant="success">
      <p class="mb-2"><strong>{{ many(done.steps.length, 'change') }} done</strong>; {{ many(done.unchanged, 'line') }} asked for nothing new.</p>
      <template v-if="codes.length">
        <p class="mb-2">{{ many(codes.length, 'machine') }} can join. Their codes are shown only now: fetch the hand-outs before you leave this page.</p>
        <div class="d-flex gap-2">
          <BButton variant="primary" :disabled="handing.busy.value" @click="handOut('pdf')">Hand-outs as PDF</BButton>
          <BButton variant="outline-secondary" :disabled="handing.busy.value" @click="handOut('html')">Hand-outs as HTML</BButton>
        </div>
      </template>
    </BAlert>
    <div class="d-flex flex-wrap gap-2 align-items-end mb-3">
      <BFormGroup label="A table as CSV" label-for="roster-file">
        <input id="roster-file" type="file" accept=".csv,text/csv" class="form-control" @change="choose" />
      </BFormGroup>
      <BButton variant="outline-secondary" @click="template(false)">Empty table</BButton>
      <BButton variant="outline-secondary" @click="template(true)">Table of the office as it is</BButton>
    </div>
    <form @submit.prevent="looking.submit">
      <BFormGroup label="Or its lines" label-for="roster-table" description="The first line names the columns: account, display name, groups, machine, disk, destination, limit, encryption.">
        <BFormTextarea id="roster-table" v-model="table" rows="5" class="font-monospace" spellcheck="false" @update:model-value="typed" />
      </BFormGroup>
      <BButton type="submit" class="mt-2" :variant="plan ? 'outline-secondary' : 'primary'" :disabled="!table || looking.busy.value">See what would change</BButton>
    </form>
    <div v-if="plan" class="mt-3" role="status">
      <template v-if="plan.faults.length">
        <p class="mb-1"><strong>{{ many(plan.faults.length, 'fault') }}.</strong> Nothing is imported until they are corrected.</p>
        <div class="table-responsive">
          <table class="table mb-0">
            <thead><tr><th scope="col" class="text-end">Line</th><th scope="col">Cell</th><th scope="col">What is wrong</th></tr></thead>
            <tbody>
              <tr v-for="(f, i) in plan.faults" :key="i">
                <td class="text-end">{{ f.line }}</td>
                <td>{{ f.column ? `${f.cell}, ${f.column}` : '–' }}</td>
                <td>{{ f.what }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </template>
      <p v-else-if="!plan.steps.length" class="mb-0">Nothing to do: all {{ many(plan.lines, 'line') }} are so already.</p>
      <template v-else>
        <p class="mb-1"><strong>{{ many(plan.steps.length, 'change') }}</strong>; {{ plan.unchanged }} of {{ many(plan.lines, 'line') }} ask for nothing new.</p>
        <div class="table-responsive jf-tall">
          <table class="table">
            <thead><tr><th scope="col" class="text-end">Line</th><th scope="col">Change</th><th scope="col">Name</th><th scope="col">How</th></tr></thead>
            <tbody>
              <tr v-for="(s, i) in plan.steps" :key="i">
                <td class="text-end">{{ s.line }}</td>
                <td>{{ WHAT[s.act] }} {{ s.about }}</td>
                <td>{{ s.name }}</td>
                <td>{{ s.says }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <BButton variant="primary" :disabled="bringing.busy.value" @click="bringing.submit">Do all of this</BButton>
      </template>
    </div>
  </section>
</template>
