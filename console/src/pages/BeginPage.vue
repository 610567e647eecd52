<script setup lang="ts">
import { BButton, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import ProblemAlert from '../components/ProblemAlert.vue'
import { useForm } from '../composables/useForm'
import { useSession } from '../composables/useSession'
import RuledInput from '../components/RuledInput.vue'

const router = useRouter()
const { signIn } = useSession()
const code = ref('')
const login = ref('')
const password = ref('')

const { problem, busy, submit } = useForm(async () => {
  await answer(api.POST('/api/v1/first-administrator', { body: { code: code.value, login: login.value, password: password.value } }))
  await signIn(login.value, password.value)
  await router.push({ name: 'storage' })
})
</script>

<template>
  <div class="jf-narrow mx-auto mt-5">
    <h1 class="mb-1">Create the first administrator</h1>
    <p class="jf-quiet">The service printed a one-time code when it started; its log has it too.</p>
    <form class="jf-panel" @submit.prevent="submit">
      <ProblemAlert :problem="problem" />
      <BFormGroup label="One-time code" label-for="code" class="mb-3">
        <BFormInput id="code" v-model="code" autocomplete="one-time-code" required autofocus />
      </BFormGroup>
      <RuledInput id="login" v-model="login" label="Login name" rule="account-name" column="mb-3" autocomplete="username" required />
      <RuledInput id="password" v-model="password" label="Password of the account" rule="password" description="At least 10 characters; only the length matters." column="mb-3" type="password" autocomplete="new-password" required />
      <BButton type="submit" variant="primary" :disabled="busy">Create and sign in</BButton>
    </form>
  </div>
</template>
