<script setup lang="ts">
import { BButton, BFormInput } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { put } from '../api/client'
import type { Account } from '../api/types'
import { useForm } from '../composables/useForm'
import { exactSize, parseSize, size } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** What an account's image stores may occupy together, and its change. */
const props = defineProps<{ account: Account; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const changing = ref(false)
const text = ref('')
const bytes = computed(() => (text.value.trim() === '' ? null : parseSize(text.value)))

function change() {
  text.value = props.account.quota == null ? '' : exactSize(props.account.quota)
  changing.value = true
}
const saving = useForm(async () => {
  await put(`/accounts/${props.account.id}/settings`, { quota: bytes.value })
  changing.value = false
  emit('changed')
})
</script>

<template>
  <ProblemAlert :problem="saving.problem.value" />
  <form v-if="changing" class="d-flex gap-2 justify-content-end" @submit.prevent="saving.submit">
    <BFormInput v-model="text" size="sm" placeholder="no limit" :aria-label="`Quota of ${account.login}`" :state="bytes === undefined ? false : null" autofocus />
    <BButton size="sm" type="submit" variant="primary" :disabled="bytes === undefined || saving.busy.value">Save</BButton>
    <BButton size="sm" variant="outline-secondary" @click="changing = false">Cancel</BButton>
  </form>
  <div v-else class="d-flex gap-2 justify-content-end align-items-center">
    <span>{{ account.quota == null ? 'no limit' : size(account.quota) }}</span>
    <BButton v-if="mayChange" size="sm" variant="outline-secondary" :aria-label="`Change the quota of ${account.login}`" @click="change">Change</BButton>
  </div>
</template>
