<script setup lang="ts">
/** What can be made of this: what was picked, and the results that make sense, worked out, best first. */
import { computed } from 'vue'
import { useJob } from '../state/job'
import { useMade } from '../state/made'
import type { Under } from '../view3d/picking'
import Measured from './Measured.vue'

const j = useJob()
const made = useMade()
const nameOf = (at: Under): [string, string] => {
  if (at.what === 'scan') return ['place on the scan', j.byId.get(j.root(at.id))?.name ?? '']
  if (at.what === 'datum') return ['datum', j.byId.get(at.id)?.name ?? '']
  if (at.what === 'loop') return ['loop', j.byId.get(at.sketch)?.name ?? '']
  if (at.what === 'edge') return ['edge', `${at.name[0]} to ${at.name[1]}`]
  if (at.what === 'face') return ['face', at.name]
  return [at.what, '']
}
const COLOURS: Partial<Record<Under['what'], string>> = {
  scan: 'bg-sand',
  datum: 'bg-plum',
  loop: 'bg-inkblue',
  edge: 'bg-slate',
  face: 'bg-slate',
}
const onModel = computed(() => made.given.every((g) => g.what === 'face' || g.what === 'edge'))
const given = computed(() => made.given.map((at) => ({ at, text: nameOf(at) })))
</script>

<template>
  <section class="section !border-t-0" aria-label="What can be made of this">
    <div class="flex items-center justify-between">
      <h2>{{ onModel && !made.offers.length ? 'On the model' : 'What can be made of this' }}</h2>
      <button class="btn !px-2 !py-0.5" title="Esc" @click="made.clear()">Clear</button>
    </div>
    <ul class="mt-2 space-y-1" aria-label="Picked">
      <li v-for="(g, i) in given" :key="i" class="slot">
        <span class="h-[11px] w-[11px] shrink-0 rounded-[2px]" :class="COLOURS[g.at.what]" />
        <span class="text-soft">{{ g.text[0] }}</span>
        <span class="min-w-0 flex-1 truncate font-semibold" :title="g.text[1]">{{ g.text[1] }}</span>
      </li>
    </ul>
    <Measured :given="made.given" />
    <ol class="mt-3 space-y-1.5" aria-label="Results">
      <li v-for="(o, i) in made.offers" :key="o.tool + o.title">
        <button class="offer" :class="{ 'offer-first': i === 0 }" @click="made.take(o)">
          <span class="flex items-baseline justify-between">
            <b class="font-semibold">{{ o.title }}</b>
            <kbd v-if="i === 0" class="fig text-soft">Enter</kbd>
          </span>
          <span class="fig block text-soft">{{ o.figure }}</span>
          <span class="mt-0.5 block text-[11.5px] text-soft">{{ o.because }}</span>
        </button>
      </li>
    </ol>
    <p v-if="made.weighing" class="mt-2 text-soft" role="status">Working out what it could be</p>
    <p v-else-if="!made.offers.length && !onModel" class="mt-2 text-soft">
      Nothing that is known yet can be made of this alone. Pick something else, or choose a tool by its name (
      / ).
    </p>
    <p class="mt-3 text-soft">
      Click datums, faces, edges or loops to add them; click one again to let it go.
    </p>
  </section>
</template>
