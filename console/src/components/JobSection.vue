<script setup lang="ts">
import { BButton, BProgress } from 'bootstrap-vue-next'
import { onMounted } from 'vue'
import { RouterLink } from 'vue-router'
import { answer, api, at } from '../api/client'
import type { Event, Job, Order } from '../api/types'
import { useEvents } from '../composables/useEvents'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { moment } from '../logic/format'
import { withEntry } from '../logic/live'
import ProblemAlert from './ProblemAlert.vue'
import StateWord from './StateWord.vue'

/** The service's long work, live. */
defineProps<{ mayChange: boolean }>()
const MOST = 20
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/jobs', { params: { query: { most: MOST } } })))
useEvents(onEvent, reload)

function onEvent(event: Event) {
  if (event.what === 'job' && data.value) data.value = { ...data.value, items: withEntry(data.value.items, event.job).slice(0, MOST) }
}

let wanted: { job: Job; order: Order } | undefined
const ordering = useForm(async () => {
  if (wanted) await answer(api.PUT('/api/v1/jobs/{id}/order', { ...at({ id: wanted.job.id }), body: { order: wanted.order } }))
})
function give(job: Job, order: Order) {
  wanted = { job, order }
  void ordering.submit()
}
const ended = (job: Job) => ['done', 'failed', 'cancelled'].includes(job.state)

onMounted(reload)
</script>

<template>
  <section class="mb-4" aria-labelledby="jobs">
    <h2 id="jobs">Jobs</h2>
    <ProblemAlert :problem="problem ?? ordering.problem.value" retry @retry="reload" />
    <div class="jf-panel table-responsive">
      <p v-if="data && !data.items.length" class="mb-0">There are no jobs yet. Thinning, scrubs and removals are listed here.</p>
      <table v-else class="table table-sm align-middle mb-0">
        <thead>
          <tr>
            <th scope="col">Requested</th>
            <th scope="col">What</th>
            <th scope="col">Workstation</th>
            <th scope="col">State</th>
            <th scope="col">By</th>
            <th scope="col">Outcome</th>
            <th v-if="mayChange" scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="job in data?.items" :key="job.id">
            <td>{{ moment(job.created) }}</td>
            <th scope="row">{{ job.kind }}</th>
            <td><RouterLink :to="{ name: 'workstation', params: { id: job.workstation } }">{{ job.name }}</RouterLink></td>
            <td><StateWord :state="job.state" /></td>
            <td>{{ job.by }}</td>
            <td>
              <BProgress v-if="job.state === 'underway' && job.total" :value="job.done" :max="job.total" height="0.6rem" :aria-label="`Progress of ${job.kind} of ${job.name}`" />
              <template v-else>{{ job.outcome }}</template>
            </td>
            <td v-if="mayChange" class="text-end text-nowrap">
              <template v-if="!ended(job)">
                <BButton v-if="job.state === 'paused'" size="sm" variant="outline-secondary" :aria-label="`Go on with ${job.kind} of ${job.name}`" @click="give(job, 'resume')">Go on</BButton>
                <BButton v-else size="sm" variant="outline-secondary" :aria-label="`Pause ${job.kind} of ${job.name}`" @click="give(job, 'pause')">Pause</BButton>
                <BButton size="sm" variant="outline-secondary" class="ms-2" :aria-label="`Cancel ${job.kind} of ${job.name}`" @click="give(job, 'cancel')">Cancel</BButton>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>
