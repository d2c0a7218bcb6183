<script setup lang="ts">
/** A curve through places: the places in order, each with its handle or corner, then what few change. */
import type { Schemas, Vec3 } from '../../api/types'
import GeneratedForm from '../../bench/Form.vue'
import { typed } from '../../state/format'
import { useStep } from '../useStep'

type Record = Schemas['CurveStep']
const { hand, job, r } = useStep<Record, Schemas['CurveTold']>()
function remove(k: number) {
  r.value.places = r.value.places.filter((_, n) => n !== k)
  if (r.value.places.length > 1) hand.tryIt(0)
  else hand.preview = null
}
function move(k: number, axis: number, e: Event) {
  const v = typed((e.target as HTMLInputElement).value)
  if (v === null) return
  const p = [...(r.value.places[k].place as Vec3)] as Vec3
  p[axis] = v
  r.value.places[k].place = p
  if (r.value.places.length > 1) hand.tryIt(0)
}
/** A handle along the way between the neighbours, a third of it long; or none again. */
function handle(k: number) {
  const p = r.value.places[k]
  if (p.handle) p.handle = null
  else {
    const at = (n: number) =>
      r.value.places[Math.min(r.value.places.length - 1, Math.max(0, n))].place as Vec3
    p.handle = at(k - 1).map((v, i) => (at(k + 1)[i] - v) / 6) as Vec3
  }
  hand.tryIt(0)
}
function pull(k: number, axis: number, e: Event) {
  const v = typed((e.target as HTMLInputElement).value)
  if (v === null) return
  const h = [...(r.value.places[k].handle as Vec3)] as Vec3
  h[axis] = v
  if (h.some((c) => c)) r.value.places[k].handle = h
  hand.tryIt(0)
}
const figure = (v: number) => Number(v.toFixed(3))
const AXES = ['x', 'y', 'z']
</script>

<template>
  <GeneratedForm />
  <section class="section" aria-label="Places">
    <h3>Places</h3>
    <p v-if="!r.places.length" class="mt-1.5 text-soft">Click them on the scan, in order.</p>
    <ol>
      <li v-for="(p, k) in r.places" :key="k" class="mt-1.5">
        <div class="flex items-center gap-1">
          <span class="w-5 text-soft">{{ k + 1 }}</span>
          <span v-if="p.of" class="flex-1 font-semibold">{{ job.byId.get(p.of)?.name }}</span>
          <template v-else>
            <input
              v-for="(c, i) in p.place"
              :key="i"
              v-typing
              class="field fig w-[62px] !px-1"
              :aria-label="`${AXES[i]} of place ${k + 1}`"
              :value="figure(c)"
              @change="move(k, i, $event)"
            />
          </template>
          <button
            v-if="r.runs === 'smooth'"
            class="btn !px-1.5"
            :class="{ 'btn-on': p.handle }"
            :aria-pressed="!!p.handle"
            :aria-label="`Handle at place ${k + 1}`"
            title="A handle: the way the curve has here"
            @click="handle(k)"
          >
            ∕
          </button>
          <button class="px-1 text-soft" :aria-label="`Take place ${k + 1} away`" @click="remove(k)">
            ×
          </button>
        </div>
        <div v-if="p.handle" class="mt-1 flex items-center gap-1">
          <span class="w-5" />
          <input
            v-for="(c, i) in p.handle"
            :key="i"
            v-typing
            class="field fig w-[62px] !px-1"
            :aria-label="`Handle ${AXES[i]} of place ${k + 1}`"
            :value="figure(c)"
            @change="pull(k, i, $event)"
          /><span class="text-soft">handle</span>
        </div>
      </li>
    </ol>
  </section>
</template>
