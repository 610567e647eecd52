<script setup lang="ts">
import { BFormGroup, BFormInput, BFormInvalidFeedback } from 'bootstrap-vue-next'
import { computed } from 'vue'
import type { FieldRule } from '../api/types'
import { useRule } from '../composables/useRule'

/** A field with its label that says while one types what the service would not take, and why. */
defineOptions({ inheritAttrs: false })
const props = defineProps<{ id: string; label: string; rule: FieldRule; description?: string; untilNow?: string; column?: string; describedBy?: string }>()
const text = defineModel<string | number>({ required: true })

const complaint = useRule(
  () => props.rule,
  () => String(text.value),
  () => props.untilNow,
)
const describing = computed(() => [complaint.value && `${props.id}-complaint`, props.description && `${props.id}-hint`, props.describedBy].filter(Boolean).join(' ') || undefined)
</script>

<template>
  <BFormGroup :label="label" :label-for="id" :class="column">
    <BFormInput :id="id" v-model="text" :state="complaint ? false : null" :aria-describedby="describing" v-bind="$attrs" />
    <BFormInvalidFeedback :id="`${id}-complaint`" :state="complaint ? false : null" role="status">{{ complaint }}</BFormInvalidFeedback>
    <small v-if="description" :id="`${id}-hint`" class="form-text text-body-secondary">{{ description }}</small>
  </BFormGroup>
</template>
