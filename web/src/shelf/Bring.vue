<script setup lang="ts">
/**
 * Bring in scan files, one or several: sent with progress, said back in size, a text file's columns shown
 * for confirmation.
 */
import { Upload, X } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { send } from '../api/client'
import type { Brought } from '../api/types'

type Item = {
  file: string
  share: number | null
  brought: Brought | null
  error: string
  units: string
  columns: string[]
}
defineProps<{ small?: boolean; action: string }>()
const emit = defineEmits<{ ready: [scans: Record<string, unknown>[], name: string] }>()
const items = ref<Item[]>([])
const over = ref(false)
const input = ref<HTMLInputElement | null>(null)
const UNITS: [string, string][] = [
  ['mm', 'millimetres'],
  ['cm', 'centimetres'],
  ['m', 'metres'],
  ['in', 'inches'],
]
const HOLDS = ['x', 'y', 'z', 'nx', 'ny', 'nz', 'red', 'green', 'blue', 'intensity', 'skip']
const ACCEPT = '.stl,.ply,.obj,.off,.3mf,.glb,.xyz,.pts,.asc,.e57'
const good = computed(() => items.value.filter((i) => i.brought))
const waiting = computed(() => items.value.some((i) => i.share !== null))

async function bring(files: FileList | undefined | null) {
  for (const file of Array.from(files ?? [])) {
    items.value.push({ file: file.name, share: 0, brought: null, error: '', units: 'mm', columns: [] })
    const item = items.value[items.value.length - 1]
    try {
      item.brought = await send(file, (s) => (item.share = s))
      item.columns = [...(item.brought.layout?.columns ?? [])]
    } catch (e) {
      item.error = (e as Error).message
    } finally {
      item.share = null
    }
  }
  if (input.value) input.value.value = ''
}
function drop(e: DragEvent) {
  over.value = false
  bring(e.dataTransfer?.files)
}
const lacks = (i: Item) =>
  i.brought?.layout && !['x', 'y', 'z'].every((c) => i.columns.filter((k) => k === c).length === 1)
function ready() {
  const scans = good.value.map((i) => ({
    upload: i.brought!.upload,
    units: i.units,
    layout: i.brought!.layout
      ? {
          delimiter: i.brought!.layout.delimiter,
          columns: i.columns,
          skip: i.brought!.layout.skip,
          decimal_comma: i.brought!.layout.decimal_comma,
        }
      : null,
  }))
  emit('ready', scans, good.value[0].file.replace(/\.[^.]+$/, ''))
}
defineExpose({ clear: () => (items.value = []) })
</script>

<template>
  <div class="space-y-3">
    <label
      class="drop-place"
      :class="[over ? 'border-saffron' : 'border-soft', small ? 'h-24' : 'h-36']"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="drop"
    >
      <Upload :size="20" aria-hidden="true" />
      <span><b>Drop scans here</b> or choose files</span>
      <span class="text-[11.5px] text-soft"
        >STL, PLY, OBJ, OFF, 3MF, GLB meshes<br />PLY, XYZ, PTS, ASC, E57 clouds</span
      >
      <input
        ref="input"
        type="file"
        multiple
        class="sr-only"
        :accept="ACCEPT"
        aria-label="Choose scan files"
        @change="bring(($event.target as HTMLInputElement).files)"
      />
    </label>
    <div
      v-for="(i, n) in items"
      :key="n"
      class="rounded-sm border border-rule bg-sheet p-3"
      :aria-label="i.file"
    >
      <p class="flex items-start gap-2">
        <b class="min-w-0 flex-1 truncate" :title="i.file">{{ i.file }}</b>
        <button
          v-if="i.share === null"
          :aria-label="`Leave out ${i.file}`"
          title="Leave out"
          @click="items.splice(n, 1)"
        >
          <X :size="14" />
        </button>
      </p>
      <div v-if="i.share !== null" role="status">
        <div class="h-1.5 bg-rule">
          <div class="h-full bg-saffron" :style="{ width: `${i.share * 100}%` }" />
        </div>
        <p class="mt-1 text-soft">{{ i.share < 1 ? 'Sending the file' : 'Reading the scan' }}</p>
      </div>
      <p v-if="i.error" class="note-bad mt-1.5" role="alert">{{ i.error }}</p>
      <template v-if="i.brought">
        <p class="text-soft">
          <span class="fig">{{ (i.brought.triangles || i.brought.points).toLocaleString('en') }}</span>
          {{ i.brought.triangles ? 'triangles' : 'points' }}
        </p>
        <div v-if="i.brought.layout" class="mt-1.5">
          <p>
            Columns parted by {{ i.brought.layout.delimiter
            }}<template v-if="i.brought.layout.skip"
              >, after {{ i.brought.layout.skip }} {{ i.brought.layout.skip === 1 ? 'line' : 'lines' }} of
              heading</template
            >. Is this right?
          </p>
          <div class="mt-1 overflow-x-auto rounded-sm border border-rule bg-white">
            <table class="fig w-full text-right">
              <thead>
                <tr>
                  <th v-for="(_, k) in i.columns" :key="k" class="p-0.5">
                    <select
                      v-model="i.columns[k]"
                      class="field w-[54px] !px-0 !py-0 text-[11px]"
                      :aria-label="`Column ${k + 1} holds`"
                    >
                      <option v-for="h in HOLDS" :key="h">{{ h }}</option>
                    </select>
                  </th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="(row, q) in i.brought.layout.sample.slice(0, 3)" :key="q">
                  <td v-for="(w, k) in row" :key="k" class="px-1">{{ w }}</td>
                </tr>
              </tbody>
            </table>
          </div>
          <p v-if="lacks(i)" class="note-bad mt-1">Say which one column holds x, which y and which z.</p>
        </div>
        <div class="mt-2 flex items-center gap-1.5" role="group" aria-label="The file's numbers are in">
          <span class="text-soft">in</span>
          <button
            v-for="[u, word] in UNITS"
            :key="u"
            type="button"
            class="btn flex-1 !px-1 !py-0.5"
            :class="{ 'btn-on': i.units === u }"
            :aria-pressed="i.units === u"
            :title="word"
            @click="i.units = u"
          >
            {{ u }}
          </button>
        </div>
        <p class="fig mt-1.5" data-figure="size">{{ i.brought.sizes[i.units] }}</p>
        <p v-for="w in i.brought.warnings" :key="w" class="note mt-1">{{ w }}</p>
      </template>
    </div>
    <slot v-if="good.length" />
    <button
      v-if="good.length"
      class="btn-main w-full"
      :disabled="waiting || good.some((i) => !!lacks(i))"
      @click="ready"
    >
      {{ action }}
    </button>
  </div>
</template>
