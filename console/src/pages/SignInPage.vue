<script setup lang="ts">
import { BButton, BFormGroup, BFormInput } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ProblemAlert from '../components/ProblemAlert.vue'
import { useForm } from '../composables/useForm'
import { useSession } from '../composables/useSession'

const route = useRoute()
const router = useRouter()
const { signIn } = useSession()
const login = ref('')
const password = ref('')
const code = ref('')
const needsCode = ref(false)

const { problem, busy, submit } = useForm(async () => {
  await signIn(login.value, password.value, needsCode.value ? code.value : undefined)
  const to = route.query.to
  await router.push(typeof to === 'string' && to.startsWith('/') && !to.startsWith('//') ? to : { name: 'office' })
})
watch(problem, (refused) => {
  if (!refused) return
  // The password was right: what is left to give is the code.
  if (refused.type.endsWith(':second-factor-needed')) needsCode.value = true
  if (!refused.type.endsWith('-factor') && !needsCode.value) password.value = ''
  code.value = ''
})
/** What was asked for and has a field now is no problem any more. */
const shown = computed(() => (problem.value?.type.endsWith(':second-factor-needed') ? undefined : problem.value))
</script>

<template>
  <div class="jf-narrow mx-auto mt-5">
    <h1 class="mb-1">Jetfrost</h1>
    <p class="jf-quiet">The office’s shared backup destination</p>
    <form class="jf-panel" @submit.prevent="submit">
      <ProblemAlert :problem="shown" />
      <BFormGroup label="Login name" label-for="login" class="mb-3">
        <BFormInput id="login" v-model="login" autocomplete="username" required autofocus />
      </BFormGroup>
      <BFormGroup label="Password of the account" label-for="password" class="mb-3">
        <BFormInput id="password" v-model="password" type="password" autocomplete="current-password" required />
      </BFormGroup>
      <BFormGroup v-if="needsCode" label="Code of the second factor" label-for="code" description="The six digits that your authenticator shows, or a spare code." class="mb-3">
        <BFormInput id="code" v-model="code" autocomplete="one-time-code" required autofocus />
      </BFormGroup>
      <BButton type="submit" variant="primary" :disabled="busy">{{ busy ? 'Signing in…' : 'Sign in' }}</BButton>
    </form>
  </div>
</template>
