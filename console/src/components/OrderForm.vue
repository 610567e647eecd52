<script setup lang="ts">
import { BButton, BFormGroup, BFormInput, BFormRadio } from 'bootstrap-vue-next'
import { computed, onMounted, ref, useId, useTemplateRef } from 'vue'
import type { Workstation } from '../api/types'
import { shown, typedPath, type RawPath } from '../image/path'
import { age, many } from '../logic/format'

/** Where on its machine something is restored to, by the machine's agent. */
const props = defineProps<{ workstation: Workstation; paths: RawPath[]; point: number; included: RawPath[]; busy: boolean; now: Date }>()
const emit = defineEmits<{ order: [into: RawPath | undefined]; close: [] }>()

const where = ref<'beside' | 'folder'>('beside')
const folder = ref(shown(props.included[0] ?? ''))
const ids = { where: useId(), folder: useId() }
const what = computed(() => (props.paths.length === 1 ? shown(props.paths[0] ?? '') : many(props.paths.length, 'item')))

/** Whoever asked for it is led to it: it stands above what was pressed. */
const heading = useTemplateRef<HTMLElement>('heading')
onMounted(() => heading.value?.focus())

function send() {
  emit('order', where.value === 'folder' ? typedPath(folder.value) : undefined)
}
</script>

<template>
  <section class="jf-panel mb-3" aria-labelledby="order">
    <h2 id="order" ref="heading" tabindex="-1">Restore on {{ workstation.name }}</h2>
    <p class="text-break mb-2">{{ what }}, as of point {{ point }}. Nothing that is there is replaced.</p>
    <form class="jf-form" @submit.prevent="send">
      <fieldset class="mb-2">
        <legend class="fs-6">Put it</legend>
        <BFormRadio v-model="where" value="beside" :name="ids.where">beside where it was, with the point’s time in its name</BFormRadio>
        <BFormRadio v-model="where" value="folder" :name="ids.where">into a new folder in a folder that I name</BFormRadio>
      </fieldset>
      <BFormGroup v-if="where === 'folder'" :label="`Folder on ${workstation.name}`" :label-for="ids.folder" class="mb-2">
        <BFormInput :id="ids.folder" v-model="folder" required pattern="/.*" spellcheck="false" :aria-describedby="`${ids.folder}-which`" />
        <p :id="`${ids.folder}-which`" class="form-text mb-0 text-break">It is there already, and within what is backed up: {{ included.map(shown).join(', ') }}.</p>
      </BFormGroup>
      <p class="jf-quiet mb-2">
        The order is sealed with the workstation’s key: the service carries it and cannot read it. {{ workstation.name }} was last seen
        {{ workstation.last_seen ? age(workstation.last_seen, now) : 'never' }}; an order waits seven days.
      </p>
      <div class="d-flex gap-2">
        <BButton type="submit" variant="primary" :disabled="busy">{{ busy ? 'Ordering…' : 'Order' }}</BButton>
        <BButton variant="outline-secondary" @click="emit('close')">Cancel</BButton>
      </div>
    </form>
  </section>
</template>
