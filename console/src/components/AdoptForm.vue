<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { answer, api } from '../api/client'
import type { Adopted } from '../api/types'
import { useForm } from '../composables/useForm'
import { many, moment, size } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'
import RuledInput from './RuledInput.vue'

/** Takes over a destination of another installation: first a look, then the act. */
const emit = defineEmits<{ changed: [] }>()
const directory = ref('')
const found = ref<Adopted>()

const looking = useForm(async () => {
  found.value = await answer(api.POST('/api/v1/destinations/adoption', { body: { directory: directory.value, preview: true } }))
})
const adopting = useForm(async () => {
  found.value = await answer(api.POST('/api/v1/destinations/adoption', { body: { directory: directory.value } }))
  emit('changed')
})
</script>

<template>
  <form class="jf-panel mb-4" aria-labelledby="adopt" @submit.prevent="looking.submit">
    <h2 id="adopt">Adopt a destination of another installation</h2>
    <p class="jf-quiet">Takes over a destination from its disk alone. Its people and machines come back as records; each machine claims its backups with an enrolment code and its image passphrase.</p>
    <ProblemAlert :problem="looking.problem.value ?? adopting.problem.value" />
    <div class="d-flex flex-wrap gap-2 align-items-end">
      <RuledInput id="adopt-directory" v-model="directory" label="Directory on this server" rule="directory" column="flex-grow-1" required @update:model-value="found = undefined" />
      <BButton type="submit" variant="outline-secondary" :disabled="looking.busy.value">Look at it</BButton>
    </div>
    <div v-if="found" role="status" class="mt-3">
      <p class="mb-2">
        <template v-if="found.destination">{{ found.name }} was adopted with {{ many(found.stores.length, 'image store') }}. Its retention is everything until you change it, and nobody has access yet.</template>
        <template v-else>With {{ found.name }} would come {{ many(found.stores.length, 'image store') }}. Nothing was changed.</template>
      </p>
      <ul class="mb-2">
        <li v-for="s in found.stores" :key="s.workstation">
          {{ s.workstation }} of {{ s.login }}{{ s.new_account ? ' (a new account)' : '' }}: {{ many(s.points, 'point') }}, {{ size(s.bytes) }}{{ s.latest ? `, the latest of ${moment(s.latest)}` : '' }}
        </li>
        <li v-for="what in found.left_out" :key="what">Not taken over: {{ what }}</li>
      </ul>
      <BButton v-if="!found.destination" variant="primary" :disabled="adopting.busy.value" @click="adopting.submit">Adopt {{ found.name }}: the other installation writes there no more</BButton>
    </div>
  </form>
</template>
