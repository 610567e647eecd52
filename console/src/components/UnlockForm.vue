<script setup lang="ts">
import { BButton, BFormGroup, BFormInput, BFormRadio } from 'bootstrap-vue-next'
import { computed, ref, useId } from 'vue'
import type { UnlockMethod, Workstation } from '../api/types'
import type { Secret } from '../image/slots'
import { moment } from '../logic/format'

/** Asks for one of the secrets that unlock an image store. Only the worker gets it. */
const props = defineProps<{ workstation: Workstation; methods: UnlockMethod[]; busy: boolean }>()
const emit = defineEmits<{ unlock: [secret: Secret] }>()

type Kind = UnlockMethod['kind']
const WORDS: Partial<Record<Kind, string>> = { passphrase: 'Image passphrase', recovery_key: 'Printed recovery key', office_key: 'Office key' }
const kinds = computed(() => (['passphrase', 'recovery_key', 'office_key'] as const).filter((kind) => props.methods.some((way) => way.kind === kind)))
const kind = ref<Kind>(kinds.value[0] ?? 'passphrase')
const made = computed(() => props.methods.find((way) => way.kind === kind.value)?.made)
const passphrase = ref('')
const recovery = ref('')
const file = ref<File>()
const ids = { passphrase: useId(), recovery: useId(), file: useId(), kind: useId() }
/** An office key's file is some 150 bytes. */
const MOST_KEY_FILE = 4096
const tooLong = ref(false)

function take(event: Event) {
  file.value = event.target instanceof HTMLInputElement ? event.target.files?.[0] : undefined
}

async function send() {
  if (kind.value === 'passphrase') emit('unlock', { kind: 'passphrase', passphrase: passphrase.value })
  else if (kind.value === 'recovery_key') emit('unlock', { kind: 'recovery-key', typed: recovery.value })
  else if (file.value) {
    tooLong.value = file.value.size > MOST_KEY_FILE
    if (!tooLong.value) emit('unlock', { kind: 'office-key', file: new Uint8Array(await file.value.arrayBuffer()), passphrase: passphrase.value })
  }
}
</script>

<template>
  <form class="jf-form" @submit.prevent="send">
    <fieldset v-if="kinds.length > 1" class="mb-2">
      <legend class="fs-6">Unlock with</legend>
      <BFormRadio v-for="one in kinds" :key="one" v-model="kind" :value="one" :name="ids.kind" inline>{{ WORDS[one] }}</BFormRadio>
    </fieldset>
    <BFormGroup v-if="kind === 'passphrase'" :label="`Image passphrase of ${workstation.name}`" :label-for="ids.passphrase" class="mb-2">
      <BFormInput :id="ids.passphrase" v-model="passphrase" type="password" autocomplete="off" required :aria-describedby="`${ids.passphrase}-which`" />
      <p :id="`${ids.passphrase}-which`" class="form-text mb-0">
        <template v-if="made">Set {{ moment(made) }}. </template>It is not the password of {{ workstation.login }}.
      </p>
    </BFormGroup>
    <BFormGroup v-else-if="kind === 'recovery_key'" label="Recovery key" :label-for="ids.recovery" class="mb-2">
      <BFormInput :id="ids.recovery" v-model="recovery" autocomplete="off" spellcheck="false" required class="font-monospace" :aria-describedby="`${ids.recovery}-which`" />
      <p :id="`${ids.recovery}-which`" class="form-text mb-0">
        Eight groups of four, printed for {{ workstation.name }}<template v-if="made"> {{ moment(made) }}</template>. Small letters and blanks do not matter.
      </p>
    </BFormGroup>
    <template v-else>
      <BFormGroup label="File of the office key" :label-for="ids.file" class="mb-2">
        <input :id="ids.file" class="form-control" type="file" required @change="take" />
        <p v-if="tooLong" class="jf-bad mb-0">This file is too long to be an office key.</p>
      </BFormGroup>
      <BFormGroup label="Passphrase of that file" :label-for="ids.passphrase" class="mb-2">
        <BFormInput :id="ids.passphrase" v-model="passphrase" type="password" autocomplete="off" required />
      </BFormGroup>
    </template>
    <BButton type="submit" variant="primary" :disabled="busy">{{ busy ? 'Unlocking…' : 'Unlock' }}</BButton>
  </form>
</template>
