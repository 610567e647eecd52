<script setup lang="ts">
import { BButton, BSpinner } from 'bootstrap-vue-next'
import { onBeforeUnmount, ref, watch } from 'vue'
import { shown, shownName } from '../image/path'
import { many, moment, size } from '../logic/format'
import type { Preview, ShownEntry, ShownVersion } from '../worker/protocol'

/** A file of the past: a preview, its versions, and the file itself. */
const props = defineProps<{ file: ShownEntry; point: number; preview?: Preview; versions?: ShownVersion[]; busy: boolean }>()
const emit = defineEmits<{ download: [point: number]; order: [point: number]; versions: []; close: [] }>()

const image = ref<string>()
function forget() {
  if (image.value) URL.revokeObjectURL(image.value)
  image.value = undefined
}
watch(
  () => props.preview,
  (preview) => {
    forget()
    if (preview?.kind === 'image') image.value = URL.createObjectURL(new Blob([preview.bytes], { type: preview.type }))
  },
  { immediate: true },
)
onBeforeUnmount(forget)

const inPoints = (version: ShownVersion) => {
  const newest = version.points[0]
  const oldest = version.points.at(-1)
  return newest === oldest ? `point ${newest}` : `points ${oldest} to ${newest}`
}
</script>

<template>
  <section class="jf-panel" aria-labelledby="file">
    <div class="d-flex align-items-baseline gap-2">
      <h2 id="file" class="text-break me-auto">{{ shownName(file.path) }}</h2>
      <BButton size="sm" variant="outline-secondary" @click="emit('close')">Close</BButton>
    </div>
    <p class="jf-quiet text-break mb-2">{{ shown(file.path) }}<br />{{ size(file.bytes) }}, modified {{ moment(new Date(file.modified).toISOString()) }}, of {{ file.owner }}</p>
    <div class="d-flex gap-2 mb-3">
      <BButton size="sm" variant="primary" :disabled="busy" @click="emit('download', point)">Download</BButton>
      <BButton size="sm" variant="outline-secondary" @click="emit('order', point)">Restore on the machine…</BButton>
      <BButton v-if="!versions" size="sm" variant="outline-secondary" @click="emit('versions')">All versions</BButton>
    </div>
    <div v-if="versions" class="jf-versions mb-3" tabindex="0" role="region" aria-label="Versions">
      <table class="table table-sm align-middle">
        <caption class="caption-top py-1">{{ many(versions.length, 'version') }}</caption>
        <thead>
          <tr>
            <th scope="col">Modified</th>
            <th scope="col" class="jf-number">Size</th>
            <th scope="col">In</th>
            <th scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="version in versions" :key="version.points[0]">
            <td>{{ moment(new Date(version.entry.modified).toISOString()) }}</td>
            <td class="jf-number">{{ size(version.entry.bytes) }}</td>
            <td>{{ inPoints(version) }}</td>
            <td class="text-end">
              <BButton size="sm" variant="outline-secondary" class="me-1" :aria-label="`Restore the version of ${inPoints(version)} on the machine`" @click="emit('order', version.points[0] ?? point)">Restore…</BButton>
              <BButton size="sm" variant="outline-secondary" :disabled="busy" :aria-label="`Download the version of ${inPoints(version)}`" @click="emit('download', version.points[0] ?? point)">Download</BButton>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="!preview" class="jf-quiet mb-0"><BSpinner small /> Reading…</p>
    <p v-else-if="preview.kind === 'none'" class="jf-quiet mb-0">{{ preview.why }}</p>
    <img v-else-if="preview.kind === 'image'" :src="image" :alt="`Preview of ${shownName(file.path)}`" class="img-fluid rounded" />
    <template v-else>
      <pre class="jf-preview" tabindex="0" aria-label="Preview">{{ preview.text }}</pre>
      <p v-if="preview.isCut" class="jf-quiet mb-0">Only the beginning is shown.</p>
    </template>
  </section>
</template>
