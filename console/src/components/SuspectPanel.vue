<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import type { Workstation } from '../api/types'
import { age, moment } from '../logic/format'
import { changesText, looks } from '../logic/suspects'
import MarkForm from './MarkForm.vue'

/** What looks like an incident, what there is to go back to, and who decides. It is not there while nothing is suspect. */
const props = defineProps<{ workstation: Workstation; now: Date; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const marking = ref(false)
const point = computed(() => props.workstation.store.suspect?.point)
const good = computed(() => props.workstation.store.suspect?.last_good)
function done() {
  marking.value = false
  emit('changed')
}
</script>

<template>
  <section v-if="point" class="jf-panel jf-alarm mb-3" aria-labelledby="suspect">
    <h2 id="suspect">Point {{ point.sequence }} {{ looks(point.suspicion) }}</h2>
    <p class="mb-2">
      It was committed {{ age(point.committed, now) }}, {{ moment(point.committed) }}. <template v-if="point.changes">{{ changesText(point.changes) }}</template>
    </p>
    <p class="mb-2">
      <template v-if="good">
        The last good point is <strong>{{ good.sequence }}</strong> of {{ moment(good.committed) }}: restore from it, not from a later one.
      </template>
      <template v-else>There is no good point before it.</template>
      Point {{ point.sequence }} and everything before it stay, whatever the retention, until an administrator decides.
    </p>
    <p class="mb-2">If nobody meant these changes, take {{ workstation.name }} off the network first.</p>
    <MarkForm v-if="marking" :store="workstation.store.id" :point="point" @done="done" @cancel="marking = false" />
    <BButton v-else-if="mayChange" size="sm" variant="primary" @click="marking = true">Decide…</BButton>
  </section>
</template>
