<script setup lang="ts">
/** A deviation map: the made form, what of the scan is left out, and rules for faces. */
import { computed, ref } from 'vue'
import type { Schemas } from '../../api/types'
import Form from '../../bench/Form.vue'
import { typed } from '../../state/format'
import { partWords } from '../../check/proving'
import { useStep } from '../useStep'

type Record = Schemas['CheckStep']
const { hand, job: j, r } = useStep<Record, Schemas['DeviationTold']>()
const marking = computed(() => hand.slot === 'marks')
function mark() {
  hand.slot = marking.value ? null : 'marks'
  if (hand.slot) hand.select()
}
function count() {
  r.value.marks = []
  hand.slot = null
  hand.lit = null
}
/** Faces of what it is compared with, by their names. */
const faces = computed(() => {
  const told = j.toldOf<Schemas['BodyTold']>(j.byId.get(r.value.body))
  return told?.face_names ?? []
})
const face = ref('')
const within = ref('')
const ready = computed(() => (typed(within.value) ?? 0) > 0)
function add() {
  const tolerance = typed(within.value)
  if (!tolerance || tolerance <= 0) return
  const name = face.value ? partWords(face.value).slice(0, 80) : 'all faces'
  r.value.rules.push({ name, faces: face.value ? [face.value] : [], tolerance, low: null, share: 0.99 })
  within.value = ''
}
</script>

<template>
  <Form />
  <section class="section" aria-label="Left out">
    <h3>Left out</h3>
    <p class="mt-1 text-soft">
      {{
        r.marks.length
          ? 'What is marked does not count.'
          : 'Damage and welds can be marked on the scan; they do not count then.'
      }}
    </p>
    <div class="mt-1.5 flex gap-1.5">
      <button class="btn flex-1" :class="{ 'btn-on': marking }" :aria-pressed="marking" @click="mark">
        {{ marking ? 'Marked' : 'Mark on the scan' }}
      </button>
      <button v-if="r.marks.length" class="btn" @click="count">Count all</button>
    </div>
  </section>
  <section class="section" aria-label="Rules">
    <h3>Rules</h3>
    <ul v-if="r.rules.length" class="mt-1">
      <li v-for="(rule, k) in r.rules" :key="k" class="flex items-baseline gap-2 py-px">
        <span class="min-w-0 flex-1 truncate">{{ rule.name }}</span>
        <label class="fig flex items-baseline gap-1"
          ><input
            class="field w-[44px] !px-1 !py-0 text-right"
            :value="Math.round(100 * rule.share)"
            :aria-label="`Share of ${rule.name}, %`"
            @change="
              rule.share = Math.min(
                1,
                Math.max(0.01, (typed(($event.target as HTMLInputElement).value) ?? 99) / 100),
              )
            "
          />% in ± {{ rule.tolerance }}</label
        >
        <button
          class="text-soft underline"
          :aria-label="`Take out ${rule.name}`"
          @click="r.rules.splice(k, 1)"
        >
          out
        </button>
      </li>
    </ul>
    <form class="mt-1.5 flex gap-1.5" aria-label="Add a rule" @submit.prevent="add">
      <select v-model="face" class="field min-w-0 flex-1" aria-label="Face of the rule">
        <option value="">all faces</option>
        <option v-for="f in faces" :key="f" :value="f">{{ partWords(f) }}</option>
      </select>
      <input v-model="within" class="field w-[64px]" placeholder="± mm" aria-label="Tolerance of the rule" />
      <button class="btn" :disabled="!ready">Add</button>
    </form>
  </section>
</template>
