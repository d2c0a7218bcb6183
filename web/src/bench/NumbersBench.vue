<script setup lang="ts">
/** A cleaning step that needs only numbers. */
import { computed } from 'vue'
import { FORMS } from '../clean/forms'
import { mm } from '../state/format'
import { useJob } from '../state/job'
import Head from './Head.vue'

const j = useJob()
const r = computed(() => j.hand!.record)
const form = computed(() => FORMS[j.hand!.kind])
const s = computed<any>(() => (j.preview?.status === 'failed' ? null : j.preview?.summary))
const before = computed<any>(() => j.handScan?.summary)
const fields = computed(() => form.value.fields.filter((f) => !f.when || f.when(r.value)))
function set(key: string, text: string) {
  r.value[key] = text === '' ? null : Number(text)
  j.preview = null
  j.tryIt(250)
}
function choose(v: string) {
  r.value[form.value.choice!.key] = v
  j.preview = null
  j.tryIt(0)
}
j.tryIt(0)
</script>

<template>
  <Head :title="form.title" :says="form.says" />
  <section class="section">
    <h3>Give</h3>
    <div v-if="form.choice" class="mt-1.5 flex gap-1.5"><button v-for="[v, name] in form.choice.options" :key="v" class="btn flex-1 !px-1" :class="{ 'btn-on': r[form.choice.key] === v }" :aria-pressed="r[form.choice.key] === v" @click="choose(v)">{{ name }}</button></div>
    <label v-for="f in fields" :key="f.key" class="mt-1.5 flex items-center gap-2"><span class="w-[104px]">{{ f.label }}</span>
      <input type="number" class="field fig w-20" :value="r[f.key]" :step="f.step" :min="f.min" :max="f.max" @change="set(f.key, ($event.target as HTMLInputElement).value)" /><span class="text-soft">{{ r[f.key] === null && f.empty ? f.empty : f.unit }}</span></label>
    <label v-if="form.toggle" class="mt-1.5 flex items-center gap-2"><input v-model="r[form.toggle.key]" type="checkbox" class="accent-[#23262A]" @change="j.tryIt(0)" /> {{ form.toggle.label }}</label>
    <p v-if="!fields.length && !form.choice && !form.toggle" class="mt-1.5 text-soft">Nothing to set.</p>
  </section>
  <section class="section" aria-label="Evidence">
    <h3>Evidence</h3>
    <p v-if="!s && !j.previewing" class="mt-1.5 text-soft">What it gives shows here.</p>
    <template v-if="s">
      <dl class="mt-1.5 grid grid-cols-[116px_1fr] gap-y-1">
        <template v-for="f in form.figures" :key="f.key"><dt>{{ f.label }}</dt><dd class="fig" :data-figure="f.key">{{ f.of ? f.of(s, before) : `${mm(s[f.key], f.digits ?? 3)} ${f.unit ?? ''}` }}</dd></template>
      </dl>
      <div v-if="j.hand!.kind !== 'noise'" class="mt-2.5 flex gap-1.5">
        <button class="btn flex-1 !px-1" :class="{ 'btn-on': !j.show.after }" :aria-pressed="!j.show.after" @click="j.show.after = false">Before</button>
        <button class="btn flex-1 !px-1" :class="{ 'btn-on': j.show.after }" :aria-pressed="j.show.after" @click="j.show.after = true">After</button>
        <button class="btn flex-1 !px-1" :class="{ 'btn-on': j.show.edges }" :aria-pressed="j.show.edges" @click="j.show.edges = !j.show.edges">Edges</button>
        <button v-if="form.moved" class="btn flex-1 !px-1" :class="{ 'btn-on': j.show.moved }" :aria-pressed="j.show.moved" title="How far the surface moved, as colours" @click="j.show.moved = !j.show.moved; j.show.after = true">Moved</button>
      </div>
      <p v-if="j.show.moved && j.movedReach" class="mt-1.5 text-soft">Rust stands out of the surface before, teal lies under it; full colour at ± <span class="fig">{{ j.movedReach.toFixed(3) }}</span> mm.</p>
    </template>
  </section>
</template>
