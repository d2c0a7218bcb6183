<script setup lang="ts">
/** The scans of the job: what each file holds, its unit and columns changeable; more can be brought in. */
import { computed, ref, shallowRef, watch } from 'vue'
import { call } from '../../api/client'
import type { Schemas } from '../../api/types'
import CaptureList from '../../capture/CaptureList.vue'
import CapturePanel from '../../capture/CapturePanel.vue'
import { usePieces } from '../../pieces/pieces'
import Bring from '../../shelf/Bring.vue'
import { useDetails } from '../../state/details'
import { whole } from '../../state/format'
import { useRoom } from '../../state/room'

type Line = Pick<Schemas['CaptureTold'], 'file' | 'triangles' | 'points' | 'size' | 'coloured'>
const { job: j, hand, shown } = useRoom()
const details = useDetails()
const captures = computed(() => j.captures.map((id) => j.byId.get(id)!))
const on = computed(() => j.byId.get(j.root(j.scan?.id ?? '')) ?? captures.value[0])
const line = computed(() => (on.value?.told ?? {}) as Partial<Line>)
const record = shallowRef<Partial<Schemas['ScanStep']>>({})
watch(
  [() => on.value?.id, () => on.value?.key],
  async () => {
    const s = on.value
    record.value = {}
    if (!s || !j.job) return
    const whole = await details.stone(j.job.id, s.id).catch(() => null)
    if (whole && on.value?.id === s.id) record.value = whole.record
  },
  { immediate: true },
)
const wants = ref<'' | 'more' | 'other' | 'pieces'>('')
const pieces = usePieces()
const ACTS = { more: 'Add to the job', other: 'Lay it in its place', pieces: 'Run the recipe on them' }
const error = ref('')
async function bring(scans: Record<string, unknown>[]) {
  error.value = ''
  const path = `/jobs/${j.job!.id}/scans`
  try {
    if (wants.value === 'pieces') {
      if (!(await pieces.bring(on.value!.id, scans))) return
      shown.pieces = true
    } else if (wants.value === 'other') await call('POST', `${path}/${on.value!.id}/other`, scans[0])
    else await call('POST', path, { scans })
    wants.value = ''
    await j.refresh()
  } catch (e) {
    error.value = (e as Error).message
  }
}
const many = computed(() => captures.value.length > 1)
const title = computed(() => (many.value ? `${captures.value.length} scans` : (on.value?.name ?? 'Scan')))
</script>

<template>
  <CapturePanel v-if="shown.capture" />
  <div v-show="!shown.capture">
    <header v-if="on" class="px-3.5 pb-3 pt-3">
      <h2>{{ title }}</h2>
      <p class="text-soft">
        The original {{ many ? 'files stay as they were' : 'file stays as it was' }} brought in.
      </p>
    </header>
    <section v-if="on" class="section">
      <h3>{{ many ? on.name : 'Evidence' }}</h3>
      <dl class="mt-1.5 grid grid-cols-[90px_1fr] gap-y-1">
        <dt class="text-soft">file</dt>
        <dd class="truncate" :title="line.file">{{ line.file }}</dd>
        <template v-if="line.triangles"
          ><dt class="text-soft">triangles</dt>
          <dd class="fig">{{ whole(line.triangles) }}</dd></template
        >
        <dt class="text-soft">points</dt>
        <dd class="fig">{{ whole(line.points) }}</dd>
        <dt class="text-soft">size</dt>
        <dd class="fig" data-figure="size">{{ line.size }}</dd>
        <dt class="text-soft">unit</dt>
        <dd>
          {{ record.units }}
          <button class="ml-1.5 underline" aria-label="Change unit or columns" @click="hand.takeBack(on)">
            change
          </button>
        </dd>
        <template v-if="line.coloured"
          ><dt class="text-soft">colours</dt>
          <dd>its own</dd></template
        >
        <dt class="text-soft">checksum</dt>
        <dd class="fig truncate" :title="record.sha256">{{ record.sha256?.slice(0, 16) }}…</dd>
      </dl>
      <p v-if="on.says" class="note mt-2">{{ on.says }}</p>
      <button class="btn mt-2.5 w-full" @click="shown.stage = 'Clean'">Next: clean the scan</button>
      <button class="btn mt-1.5 w-full" @click="shown.stage = 'Frame'">
        Sound already: put the part on its axes
      </button>
    </section>
    <section class="section">
      <template v-if="!wants">
        <button class="btn w-full" @click="wants = 'more'">Bring in more scans</button>
        <button v-if="on && line.triangles" class="btn mt-1.5 w-full" @click="wants = 'other'">
          Put another scan in its place
        </button>
        <template v-if="on && line.triangles">
          <h3 class="mt-3">Other pieces of this part</h3>
          <p v-if="!pieces.pieces.length" class="mt-1 text-soft">
            The recipe runs on each: which sizes they share is the design, which differ is the wear.
          </p>
          <button
            v-else
            class="btn mt-1.5 w-full"
            :class="{ 'btn-on': shown.pieces }"
            @click="shown.pieces = !shown.pieces"
          >
            {{ shown.pieces ? 'Back to the view' : `Table of ${pieces.pieces.length} pieces` }}
          </button>
          <button class="btn mt-1.5 w-full" @click="wants = 'pieces'">
            {{ pieces.pieces.length ? 'Bring in more pieces' : 'Bring in other pieces' }}
          </button>
        </template>
      </template>
      <template v-else>
        <p v-if="wants === 'other'" class="mb-2 text-soft">
          Another scan of the same part is laid onto {{ on?.name }}; every stone runs again on it, without a
          pick.
        </p>
        <p v-if="wants === 'pieces'" class="mb-2 text-soft">
          Scans of other pieces of the same part, each laid onto {{ on?.name }}; every stone runs on it by
          itself.
        </p>
        <Bring small :action="ACTS[wants]" @ready="bring" />
        <button class="btn mt-1.5 w-full" @click="wants = ''">Leave it as it is</button>
      </template>
      <p v-if="error" class="note-bad mt-2" role="alert">{{ error }}</p>
    </section>
    <CaptureList />
  </div>
</template>
