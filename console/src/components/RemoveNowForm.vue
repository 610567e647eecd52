<script setup lang="ts">
import { BButton, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { ref } from 'vue'

import type { Proof } from '../api/types'
import { useForm } from '../composables/useForm'
import { useSession } from '../composables/useSession'
import ProblemAlert from './ProblemAlert.vue'

/** Removes something that waits, at once. That cannot be undone: password and second factor are shown again. */
const props = defineProps<{ remove: (proof: Proof) => Promise<unknown>; what: string; id: string }>()
const emit = defineEmits<{ done: []; cancel: [] }>()

const { account } = useSession()
const password = ref('')
const code = ref('')
const removing = useForm(async () => {
  await props.remove({ password: password.value, code: code.value })
  emit('done')
})
</script>

<template>
  <div v-if="!account?.second_factor" class="jf-note" role="status">
    To remove {{ what }} without waiting, your account needs a second factor.
    <RouterLink to="/me">Add one</RouterLink>
    <BButton size="sm" variant="outline-secondary" class="ms-2" @click="emit('cancel')">Let it wait</BButton>
  </div>
  <form v-else class="text-start" @submit.prevent="removing.submit">
    <ProblemAlert :problem="removing.problem.value" />
    <p class="mb-2">Remove {{ what }} now? Its room is free at once, and nobody can bring it back.</p>
    <div class="d-flex flex-wrap gap-2 align-items-end">
      <BFormGroup label="Password of the account" :label-for="`${id}-password`"><BFormInput :id="`${id}-password`" v-model="password" size="sm" type="password" required autocomplete="current-password" /></BFormGroup>
      <BFormGroup label="Code of your second factor" :label-for="`${id}-code`"><BFormInput :id="`${id}-code`" v-model="code" size="sm" required inputmode="numeric" autocomplete="one-time-code" /></BFormGroup>
      <BButton size="sm" type="submit" variant="danger" :disabled="removing.busy.value">Remove now</BButton>
      <BButton size="sm" variant="outline-secondary" @click="emit('cancel')">Let it wait</BButton>
    </div>
  </form>
</template>
