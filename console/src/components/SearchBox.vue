<script setup lang="ts">
import { BFormInput } from 'bootstrap-vue-next'
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useLater } from '../composables/useLater'
import { useLoad } from '../composables/useLoad'
import { linesOf } from '../logic/search'

/** Finds anything by a few letters, by keyboard all the way: a combobox with a list (ARIA 1.2). */
const router = useRouter()
const root = useTemplateRef<HTMLElement>('root')
const text = ref('')
const open = ref(false)
const chosen = ref(-1)
const { data, problem, loading, reload } = useLoad(() => answer(api.GET('/api/v1/search', { params: { query: { text: text.value } } })))
const { later, stop } = useLater(() => void reload())
const lines = computed(() => (data.value ? linesOf(data.value, text.value) : []))
const said = computed(() => {
  if (problem.value) return problem.value.title
  return loading.value || !data.value ? 'Searching…' : lines.value.length ? '' : 'Nothing has all of these words.'
})
const input = () => root.value?.querySelector('input')

watch(text, () => {
  chosen.value = -1
  open.value = !!text.value.trim()
  if (open.value) later()
  else stop()
})
function close() {
  open.value = false
  chosen.value = -1
}
function go(at: number) {
  const line = lines.value[at]
  if (!line) return
  text.value = ''
  close()
  input()?.blur()
  void router.push(line.to)
}
function move(by: number) {
  if (!lines.value.length) return
  open.value = true
  chosen.value = (chosen.value + by + lines.value.length) % lines.value.length
}
function onSlash(event: KeyboardEvent) {
  const isTyping = event.target instanceof HTMLElement && event.target.closest('input, textarea, select, [contenteditable]')
  if (event.key !== '/' || event.ctrlKey || event.metaKey || event.altKey || isTyping) return
  event.preventDefault()
  input()?.focus()
}
onMounted(() => document.addEventListener('keydown', onSlash))
onBeforeUnmount(() => document.removeEventListener('keydown', onSlash))
</script>

<template>
  <div ref="root" class="jf-search" @focusout="(event) => root?.contains(event.relatedTarget as Node | null) || close()">
    <label for="search" class="visually-hidden">Search the office</label>
    <BFormInput
      id="search"
      v-model="text"
      type="search"
      size="sm"
      placeholder="Search ( / )"
      autocomplete="off"
      role="combobox"
      aria-autocomplete="list"
      aria-controls="search-results"
      :aria-expanded="open"
      :aria-activedescendant="chosen >= 0 ? `found-${chosen}` : undefined"
      @keydown.down.prevent="move(1)"
      @keydown.up.prevent="move(-1)"
      @keydown.enter.prevent="go(Math.max(chosen, 0))"
      @keydown.esc="close"
    />
    <div v-show="open" class="jf-found jf-panel">
      <ul id="search-results" role="listbox" aria-label="What was found">
        <li v-for="(line, i) in lines" :id="`found-${i}`" :key="line.key" role="option" :aria-selected="i === chosen" :class="{ 'is-chosen': i === chosen }" @mousedown.prevent @click="go(i)">
          <span v-if="line.title" class="jf-quiet small d-block">{{ line.title }}</span>
          {{ line.name }} <span class="jf-quiet">{{ line.detail }}</span>
        </li>
      </ul>
      <p class="mb-0" role="status">{{ said }}</p>
    </div>
  </div>
</template>
