<script setup lang="ts">
import { BButton, BFormInput } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { answer, api, at } from '../api/client'
import type { Point, Proof } from '../api/types'
import { useForm } from '../composables/useForm'
import MarkForm from './MarkForm.vue'
import ProblemAlert from './ProblemAlert.vue'
import RemoveNowForm from './RemoveNowForm.vue'

/** Hold, release, mark, remove and undelete one point, and remove it without waiting. What cannot be undone is asked again. */
const props = defineProps<{ store: string; point: Point; isLatest: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const asking = ref<'hold' | 'mark' | 'remove' | 'now'>()
const reason = ref('')
const here = computed(() => at({ id: props.store, sequence: props.point.sequence }))
const POINT = '/api/v1/stores/{id}/points/{sequence}'

function form(send: () => Promise<unknown>) {
  return useForm(async () => {
    await send()
    asking.value = undefined
    reason.value = ''
    emit('changed')
  })
}
function done() {
  asking.value = undefined
  emit('changed')
}
const removeNow = (body: Proof) => answer(api.POST(`${POINT}/removal/now`, { ...here.value, body }))
const holding = form(() => answer(api.PUT(`${POINT}/hold`, { ...here.value, body: { reason: reason.value } })))
const releasing = form(() => answer(api.DELETE(`${POINT}/hold`, here.value)))
const removing = form(() => answer(api.PUT(`${POINT}/removal`, here.value)))
const bringing = form(() => answer(api.DELETE(`${POINT}/removal`, here.value)))
const problem = computed(() => [holding, releasing, removing, bringing].map((f) => f.problem.value).find(Boolean))
</script>

<template>
  <ProblemAlert :problem="problem" />
  <form v-if="asking === 'hold'" class="d-flex gap-2" @submit.prevent="holding.submit">
    <BFormInput v-model="reason" size="sm" required maxlength="200" :aria-label="`Why point ${point.sequence} is held`" placeholder="Why?" autofocus />
    <BButton size="sm" type="submit" variant="primary">Hold</BButton>
    <BButton size="sm" variant="outline-secondary" @click="asking = undefined">Cancel</BButton>
  </form>
  <MarkForm v-else-if="asking === 'mark'" :store="store" :point="point" @done="done" @cancel="asking = undefined" />
  <div v-else-if="asking === 'remove'" class="d-flex gap-2 align-items-center">
    <span>Remove point {{ point.sequence }}?</span>
    <BButton size="sm" variant="danger" @click="removing.submit">Remove</BButton>
    <BButton size="sm" variant="outline-secondary" @click="asking = undefined">Cancel</BButton>
  </div>
  <RemoveNowForm v-else-if="asking === 'now'" :id="`point-${point.sequence}`" :remove="removeNow" :what="`point ${point.sequence}`" @done="done" @cancel="asking = undefined" />
  <div v-else class="d-flex gap-2 justify-content-end">
    <BButton v-if="point.hold" size="sm" variant="outline-secondary" :aria-label="`Release point ${point.sequence}`" @click="releasing.submit">Release</BButton>
    <BButton v-else size="sm" variant="outline-secondary" :aria-label="`Hold point ${point.sequence}`" @click="asking = 'hold'">Hold</BButton>
    <BButton size="sm" variant="outline-secondary" :aria-label="`Mark point ${point.sequence}`" @click="asking = 'mark'">Mark</BButton>
    <BButton v-if="point.pending_removal" size="sm" variant="outline-secondary" :aria-label="`Undelete point ${point.sequence}`" @click="bringing.submit">Undelete</BButton>
    <BButton v-if="point.pending_removal" size="sm" variant="outline-secondary" :aria-label="`Remove now… point ${point.sequence}`" @click="asking = 'now'">Remove now…</BButton>
    <BButton v-if="!point.pending_removal && !point.hold && !isLatest" size="sm" variant="outline-secondary" :aria-label="`Remove point ${point.sequence}`" @click="asking = 'remove'">Remove</BButton>
  </div>
</template>
