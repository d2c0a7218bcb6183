<script setup lang="ts">
import { Download } from 'lucide-vue-next'
import { computed } from 'vue'
import { useJob } from '../../state/job'

const j = useJob()
const noBody = computed(() => (j.body ? '' : 'lay a body first'))
const files = computed(() => [
  { what: 'model.step', name: 'Model as STEP', says: 'solid with named faces, mm', off: noBody.value },
  { what: 'model.stl', name: 'Model as STL', says: 'triangles within 0.01 mm', off: noBody.value },
  {
    what: 'scan.ply',
    name: 'Scan as PLY',
    says: j.frame
      ? 'in the frame, same coordinates as the model'
      : 'in its own coordinates, no frame set yet',
    off: '',
  },
  ...j.given('sketch').map((s) => ({
    what: `sketch.dxf?step=${s.id}`,
    name: `${s.name} as DXF`,
    says: 'lines, arcs and circles, mm',
    off: '',
  })),
  {
    what: 'model.py',
    name: 'Parametric script',
    says: 'build123d, chosen values at its top',
    off: noBody.value,
  },
  { what: 'recipe.json', name: 'Recipe', says: 'runs again with mason replay', off: '' },
])
const address = (what: string) => `/api/jobs/${j.job!.id}/deliver/${what}`
</script>

<template>
  <header class="px-3.5 pb-3 pt-3">
    <h2>Deliver</h2>
    <p class="text-soft">Open formats, all in the same coordinates.</p>
  </header>
  <ul class="section space-y-1.5">
    <li v-for="f in files" :key="f.what">
      <component
        :is="f.off ? 'span' : 'a'"
        class="slot"
        :class="f.off ? 'opacity-50' : 'hover:border-ink'"
        :href="f.off ? undefined : address(f.what)"
        :download="f.off ? undefined : ''"
      >
        <Download :size="15" aria-hidden="true" /><span class="min-w-0 flex-1"
          ><b class="block truncate font-semibold">{{ f.name }}</b
          ><span class="block truncate text-soft">{{ f.off || f.says }}</span></span
        >
      </component>
    </li>
  </ul>
</template>
