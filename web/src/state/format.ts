/** Figures as people read them. */
const MINUS = '−'

export const mm = (v: number | null | undefined, digits = 3, inches = false): string => {
  if (v === null || v === undefined || !Number.isFinite(v)) return '–'
  const x = inches ? v / 25.4 : v
  const t = Math.abs(x) < 0.5 * 10 ** -(digits + (inches ? 1 : 0)) ? 0 : x
  return t.toFixed(digits + (inches ? 1 : 0)).replace('-', MINUS)
}
export const signed = (v: number | null | undefined, digits = 3): string =>
  v === null || v === undefined ? '–' : (v >= 0 ? '+' : '') + mm(v, digits)
/** An uncertainty, never shown as zero. */
export const pm = (u: number | null | undefined): string =>
  u === null || u === undefined ? '' : `± ${u < 0.0005 ? '<0.001' : u.toFixed(3)}`
export const short = (v: number): string => String(Number(v.toFixed(3))).replace('-', MINUS)
export const count = (n: number): string => (n >= 10000 ? `${Math.round(n / 1000)} k` : whole(n))
/** A whole number, its thousands apart. */
export const whole = (n: number | null | undefined): string => (n ?? 0).toLocaleString('en')
/** A number as a person types it, comma or point; null where it is none. */
export function typed(text: string): number | null {
  const v = Number(text.trim().replace(',', '.').replace(MINUS, '-'))
  return text.trim() && Number.isFinite(v) ? v : null
}
