<script setup lang="ts">
/** The bench while a capture is open: its device, what the pointer does, what there is so far. */
import { Trash2 } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { whole } from '../state/format'
import { useJob } from '../state/job'
import { useShown } from '../state/shown'
import CaptureNumber from './CaptureNumber.vue'
import { useCapture, type Doing, type Led } from './capture'

const cap = useCapture()
const shown = useShown()
const address = ref(localStorage.getItem('mason.device') ?? '127.0.0.1:9400')
async function connect() {
  if (await cap.act('POST', '/connect', { address: address.value }))
    localStorage.setItem('mason.device', address.value)
}
const DOING: { key: Doing; name: string }[] = [
  { key: 'touch', name: 'Touch' },
  { key: 'boundary', name: 'Bound' },
  { key: 'cut', name: 'Cut' },
  { key: 'scan', name: 'Scan' },
]
const doings = computed(() => DOING.filter((d) => d.key !== 'touch' || cap.can('probe')))
const job = useJob()
const sketches = computed(() => job.given('sketch'))
const outline = ref('')
async function takeOutline() {
  if (await cap.boundBy(outline.value)) outline.value = ''
}
const READS: Record<string, string> = {
  level: 'the level: a plane it stands on',
  plane: 'a plane',
  line: 'a line; the first turns the level',
  circle: 'a circle, bore or boss',
  rounding: 'a rounding, across it',
  curve: 'a curve along a wall',
}
const LED: Record<Led, string> = {
  in: 'into the picture, at a click',
  row: 'in a row, along a drag',
  sideways: 'sideways, along a drag',
}
const device = computed(() => cap.view?.device)
const NAMES: Record<string, string> = { arm: 'measuring arm', table: 'rotary table' }
const planes = computed(() =>
  (cap.view?.things ?? []).filter((t) => ['plane', 'level', 'cut'].includes(t.what)),
)
const mirror = computed(() => (cap.view?.things ?? []).find((t) => t.what === 'mirrored'))
const half = ref<string[]>([])
async function putMirror() {
  if (mirror.value) await cap.act('DELETE', `/things/${mirror.value.id}`)
  if (await cap.put({ what: 'mirrored', of: half.value })) half.value = []
}
async function lay() {
  await cap.lay()
  if (!cap.error) shown.capture = false
}
</script>

<template>
  <header class="px-3.5 pb-3 pt-3">
    <h2>{{ cap.view?.name ?? 'Capture' }}</h2>
    <p class="text-soft">
      <span class="fig" data-figure="kept">{{ whole(cap.view?.kept ?? 0) }}</span> points kept of
      <span class="fig" data-figure="taken">{{ whole(cap.view?.taken ?? 0) }}</span> that came
    </p>
  </header>
  <section class="section" aria-label="Device">
    <h3>Device</h3>
    <form v-if="device?.state === 'none'" class="mt-1.5 flex gap-1.5" @submit.prevent="connect">
      <input
        v-model="address"
        class="field min-w-0 flex-1"
        aria-label="Address of the device"
        maxlength="200"
      />
      <button class="btn" :disabled="cap.waiting">Connect</button>
    </form>
    <p v-else class="mt-1.5 flex items-center gap-2">
      <i class="h-2 w-2 shrink-0 rounded-full" :class="device?.state === 'there' ? 'bg-moss' : 'bg-rust'" />
      <span class="flex-1" data-device>
        {{ device?.state === 'there' ? (NAMES[device.kind] ?? device.kind) : 'the line is lost' }}
      </span>
      <button class="btn" @click="cap.act('POST', '/control', { do: 'hang up' })">Hang up</button>
    </p>
  </section>
  <section v-if="cap.connected || cap.view?.bounds" class="section" aria-label="What the pointer does">
    <div class="grid auto-cols-fr grid-flow-col gap-1" role="group" aria-label="What to do">
      <button
        v-for="d in doings"
        :key="d.key"
        class="btn !px-1"
        :class="{ 'btn-on': cap.doing === d.key }"
        :aria-pressed="cap.doing === d.key"
        @click="cap.doing = d.key"
      >
        {{ d.name }}
      </button>
    </div>
    <div v-if="cap.doing === 'touch'" class="mt-2.5 space-y-1.5">
      <label class="block"
        >read as
        <select v-model="cap.reads" class="field mt-0.5 w-full" aria-label="Read the touches as">
          <option v-for="(says, key) in READS" :key="key" :value="key">{{ says }}</option>
        </select></label
      >
      <label class="block"
        >the probe is led
        <select v-model="cap.led" class="field mt-0.5 w-full" aria-label="How the probe is led">
          <option v-for="(says, key) in LED" :key="key" :value="key">{{ says }}</option>
        </select></label
      >
      <CaptureNumber
        v-if="cap.led === 'row'"
        v-model="cap.row"
        before="touches in the row"
        says="Touches in a row"
        :min="2"
        :max="60"
      />
      <CaptureNumber
        v-if="cap.led === 'sideways'"
        v-model="cap.height"
        before="at the height"
        after="mm"
        says="Height, towards you"
        :step="0.5"
      />
      <p class="min-h-[2.8em]" :class="cap.view?.sound ? '' : 'text-soft'" data-figure="reading">
        {{ cap.view?.waiting ?? 0 }} {{ cap.view?.waiting === 1 ? 'touch' : 'touches'
        }}<template v-if="cap.view?.reading">: {{ cap.view.reading }}</template>
      </p>
      <div class="grid grid-cols-2 gap-1.5">
        <button
          class="btn"
          :disabled="!cap.view?.waiting"
          @click="cap.act('POST', `/back?reads=${cap.reads}`)"
        >
          Take back
        </button>
        <button class="btn btn-main" :disabled="!cap.view?.sound || cap.waiting" @click="cap.keep">
          Keep it
        </button>
      </div>
    </div>
    <div v-else-if="cap.doing === 'boundary'" class="mt-2.5 space-y-1.5">
      <p class="text-soft">
        Click corners in turn, as it is looked at now; what lies within, before or behind, is kept.
      </p>
      <label v-if="cap.can('probe')" class="flex items-center gap-2"
        ><input v-model="cap.touchCorners" type="checkbox" :disabled="!cap.connected" /> corners are touched
        by the probe</label
      >
      <div class="grid grid-cols-2 gap-1.5">
        <button class="btn" :disabled="!cap.corners.length" @click="cap.corners = cap.corners.slice(0, -1)">
          Take back
        </button>
        <button class="btn btn-main" :disabled="cap.corners.length < 3" @click="cap.closeBoundary">
          Close it ({{ cap.corners.length }})
        </button>
      </div>
      <div v-if="sketches.length && cap.view?.laid" class="flex gap-1.5 pt-1">
        <select v-model="outline" class="field min-w-0 flex-1" aria-label="A sketch as a boundary">
          <option value="" disabled>or what a sketch draws</option>
          <option v-for="s in sketches" :key="s.id" :value="s.id">{{ s.name }}</option>
        </select>
        <button class="btn" :disabled="!outline || cap.waiting" @click="takeOutline">Take it</button>
      </div>
    </div>
    <div v-else-if="cap.doing === 'cut'" class="mt-2.5 space-y-1.5">
      <p class="text-soft">Drag a line across: a plane through it, square to the picture.</p>
      <CaptureNumber
        v-model="cap.reach"
        before="points are kept within"
        after="mm"
        says="Reach of a cut"
        :min="0.01"
        :step="0.5"
      />
      <div class="flex items-center gap-2">
        <CaptureNumber v-model="cap.cuts" before="how many" says="How many cuts" :min="1" :max="40" />
        <CaptureNumber v-if="cap.cuts > 1" v-model="cap.apart" after="mm apart" says="Apart" :step="1" />
      </div>
    </div>
    <div v-else class="mt-2.5 space-y-1.5">
      <template v-if="cap.can('line')">
        <p class="text-soft">
          Drag the way the scanner goes, or let it go over all of it as it is looked at now.
        </p>
        <CaptureNumber
          v-model="cap.width"
          before="its line is"
          after="mm wide"
          says="Width of the line"
          :min="0.1"
          :step="5"
        />
      </template>
      <template v-else>
        <p class="text-soft">The table turns once round and is scanned at each stop.</p>
        <CaptureNumber
          v-model="cap.stops"
          before="it stops"
          after="times"
          says="Stops in a turn"
          :min="1"
          :max="72"
        />
        <CaptureNumber
          v-model="cap.tilt"
          before="and is looked at from"
          after="° above"
          says="Degrees above"
          :min="-80"
          :max="80"
          :step="5"
        />
      </template>
      <div class="grid grid-cols-2 gap-1.5">
        <button
          v-if="cap.can('line')"
          class="btn col-span-2"
          :disabled="!cap.connected || !!cap.busy"
          @click="cap.sweepAll"
        >
          Go over all of it
        </button>
        <button v-else class="btn col-span-2" :disabled="!!cap.busy" @click="cap.turn">
          Turn it once round
        </button>
        <button
          class="btn"
          :disabled="!cap.busy"
          @click="cap.act('POST', '/control', { do: cap.busy === 'paused' ? 'resume' : 'pause' })"
        >
          {{ cap.busy === 'paused' ? 'Go on' : 'Pause' }}
        </button>
        <button class="btn" :disabled="!cap.busy" @click="cap.act('POST', '/control', { do: 'stop' })">
          Stop
        </button>
      </div>
    </div>
  </section>
  <p v-if="cap.error" class="note-bad mx-3.5 mt-2" role="alert">{{ cap.error }}</p>
  <section v-if="cap.view?.things.length" class="section" aria-label="Captured so far">
    <h3>So far</h3>
    <ul class="mt-1.5 space-y-1">
      <li v-for="t in cap.view.things" :key="t.id" class="flex items-center gap-2" :data-thing="t.what">
        <span class="min-w-0 flex-1">
          <b class="font-semibold">{{ t.name }}</b> <span class="fig text-soft">{{ t.says }}</span>
        </span>
        <input
          v-if="planes.includes(t)"
          v-model="half"
          type="checkbox"
          :value="t.id"
          :aria-label="`Mirror in ${t.name}`"
          title="To mirror half a part in it, or midway between two"
        />
        <button
          class="btn !px-1"
          :aria-label="`Take out ${t.name}`"
          @click="cap.act('DELETE', `/things/${t.id}`)"
        >
          <Trash2 :size="13" />
        </button>
      </li>
    </ul>
    <p v-if="planes.length && !half.length && !mirror" class="mt-1.5 text-soft">
      Tick a plane, or two that it lies midway between, to mirror half a part.
    </p>
    <button v-if="half.length && half.length < 3" class="btn mt-1.5 w-full" @click="putMirror">
      {{ half.length > 1 ? 'Mirror the half midway between them' : 'Mirror the half in it' }}
    </button>
  </section>
  <section class="section space-y-1.5">
    <button class="btn btn-main w-full" :disabled="cap.waiting || !cap.view?.kept" @click="lay">
      {{ cap.view?.laid ? 'Hand on what is new' : 'Hand it on to the job' }}
    </button>
    <a class="btn block w-full text-center" :href="`/api${cap.here()}/file`" download
      >Its recording as a file</a
    >
    <button class="btn w-full" @click="shown.capture = false">Close the capture</button>
  </section>
</template>
