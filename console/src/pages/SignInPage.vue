<script setup lang="ts">
import { BButton, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ProblemAlert from '../components/ProblemAlert.vue'
import { useForm } from '../composables/useForm'
import { useSession } from '../composables/useSession'

const route = useRoute()
const router = useRouter()
const { signIn } = useSession()
const login = ref('')
const password = ref('')

const { problem, busy, submit } = useForm(async () => {
  await signIn(login.value, password.value)
  const to = route.query.to
  await router.push(typeof to === 'string' && to.startsWith('/') && !to.startsWith('//') ? to : { name: 'overview' })
})
watch(problem, (refused) => {
  if (refused) password.value = ''
})
</script>

<template>
  <div class="jf-narrow mx-auto mt-5">
    <h1 class="mb-1">Jetfrost</h1>
    <p class="jf-quiet">The office’s shared backup destination</p>
    <form class="jf-panel" @submit.prevent="submit">
      <ProblemAlert :problem="problem" />
      <BFormGroup label="Login name" label-for="login" class="mb-3">
        <BFormInput id="login" v-model="login" autocomplete="username" required autofocus />
      </BFormGroup>
      <BFormGroup label="Password of the account" label-for="password" class="mb-3">
        <BFormInput id="password" v-model="password" type="password" autocomplete="current-password" required />
      </BFormGroup>
      <BButton type="submit" variant="primary" :disabled="busy">{{ busy ? 'Signing in…' : 'Sign in' }}</BButton>
    </form>
  </div>
</template>
