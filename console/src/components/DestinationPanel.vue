<script setup lang="ts">
import { BButton, BFormInput } from 'bootstrap-vue-next'
import { computed, ref, useId } from 'vue'
import { answer, api, at } from '../api/client'
import type { Destination, ErasurePreview } from '../api/types'
import { useForm } from '../composables/useForm'
import { grantsText } from '../logic/access'
import { many, moment, size } from '../logic/format'
import DestinationRoom from './DestinationRoom.vue'
import DestinationSettings from './DestinationSettings.vue'
import ProblemAlert from './ProblemAlert.vue'

/** A destination with all that can be done to it. Stopping to offer it and deleting it are two acts with different words. */
const props = defineProps<{ destination: Destination; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const id = useId()
const here = computed(() => at({ id: props.destination.id }))
const withdrawn = computed(() => props.destination.state === 'withdrawn' || props.destination.state === 'erasing')
const erasing = ref<ErasurePreview>()
const typed = ref('')

function form(send: () => Promise<unknown>) {
  return useForm(async () => {
    await send()
    emit('changed')
  })
}
const withdrawing = form(() => answer(api.PUT('/api/v1/destinations/{id}/withdrawn', here.value)))
const bringing = form(() => answer(api.DELETE('/api/v1/destinations/{id}/withdrawn', here.value)))
const callingOff = form(() => answer(api.DELETE('/api/v1/destinations/{id}/erasure', here.value)))
const looking = useForm(async () => {
  erasing.value = await answer(api.GET('/api/v1/destinations/{id}/erasure', here.value))
})
const asking = useForm(async () => {
  erasing.value = await answer(api.POST('/api/v1/destinations/{id}/erasure', { ...here.value, body: { name: typed.value } }))
  typed.value = ''
})
const confirming = form(async () => {
  await answer(api.PUT('/api/v1/destinations/{id}/erasure', { ...here.value, body: { confirmation: typed.value } }))
  erasing.value = undefined
  typed.value = ''
})
const problem = computed(() => [withdrawing, bringing, callingOff, looking, asking, confirming].map((f) => f.problem.value).find(Boolean))
function leave() {
  erasing.value = undefined
  typed.value = ''
}
</script>

<template>
  <DestinationRoom :destination="destination">
    <p v-if="destination.description" class="mb-1 mt-2">{{ destination.description }}</p>
    <p v-if="destination.why" class="jf-note my-2">
      {{ destination.why.charAt(0).toUpperCase() + destination.why.slice(1) }}{{ destination.since ? `, since ${moment(destination.since)}` : '' }}.
      <template v-if="destination.erasure?.ends">All of it will be erased on {{ moment(destination.erasure.ends) }}.</template>
    </p>
    <p class="mb-0 mt-2">Access: <strong>{{ grantsText(destination.grants) }}</strong>.</p>
    <DestinationSettings :destination="destination" :may-change="mayChange" @changed="emit('changed')">
      <template v-if="withdrawn && !erasing">
        <BButton v-if="destination.state !== 'erasing'" size="sm" variant="outline-secondary" :aria-label="`Reinstate ${destination.name}`" @click="bringing.submit">Reinstate</BButton>
        <BButton v-if="destination.erasure?.ends" size="sm" variant="primary" :aria-label="`Cancel the erasure of ${destination.name}`" @click="callingOff.submit">Cancel the erasure</BButton>
        <BButton v-else size="sm" variant="outline-danger" :aria-label="`Erase ${destination.name}…`" @click="looking.submit">Erase…</BButton>
      </template>
      <BButton v-else-if="!erasing" size="sm" variant="outline-secondary" :aria-label="`Withdraw ${destination.name}: no new backups, what is there stays`" @click="withdrawing.submit">Withdraw</BButton>
    </DestinationSettings>
    <ProblemAlert :problem="problem" class="mt-2" />
    <form v-if="erasing" class="mt-3" @submit.prevent="erasing.confirmation ? confirming.submit() : asking.submit()">
      <p class="mb-1">
        <strong>{{ many(erasing.points, 'point') }} of {{ many(erasing.stores.length, 'workstation') }}, {{ size(erasing.bytes) }}</strong>
        <template v-if="erasing.earliest && erasing.latest"> from {{ moment(erasing.earliest) }} to {{ moment(erasing.latest) }}</template>
        would be removed for good, {{ many(erasing.waiting_days, 'day') }} after the second confirmation:
        {{ erasing.stores.map((s) => `${s.workstation} (${s.person})`).join(', ') || 'nobody’s' }}.
      </p>
      <p v-for="why in erasing.in_the_way" :key="why" class="jf-note mb-1">In the way: {{ why }}.</p>
      <label :for="`${id}-typed`" class="form-label mb-1">
        {{ erasing.confirmation ? `Second confirmation: type ${erasing.confirmation}` : `First confirmation: type the name ${destination.name}` }}
      </label>
      <div class="d-flex gap-2">
        <BFormInput :id="`${id}-typed`" v-model="typed" required autocomplete="off" />
        <BButton type="submit" variant="danger" class="text-nowrap">{{ erasing.confirmation ? 'Erase it' : 'Go on' }}</BButton>
        <BButton variant="outline-secondary" class="text-nowrap" @click="leave">Cancel</BButton>
      </div>
    </form>
  </DestinationRoom>
</template>
