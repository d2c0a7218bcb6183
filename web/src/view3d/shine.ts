/**
 * Surfaces judged by what they would mirror: stripes of light that bend where the surface does and break
 * where it does, or a room of bright panels.
 */
import * as THREE from 'three'

export type Shine = 'matt' | 'zebra' | 'glossy'
export const SHINES: Shine[] = ['matt', 'zebra', 'glossy']

const VERTEX = /* glsl */ `
#include <clipping_planes_pars_vertex>
varying vec3 vNormal;
void main() {
  vec4 at = modelViewMatrix * vec4(position, 1.0);
  vNormal = normalMatrix * normal;
  gl_Position = projectionMatrix * at;
  vec4 mvPosition = at;
  #include <clipping_planes_vertex>
}`

const FRAGMENT = /* glsl */ `
#include <clipping_planes_pars_fragment>
uniform bool stripes;
varying vec3 vNormal;
float panel(float v, float middle, float half_, float soft) {
  float low = smoothstep(middle - half_ - soft, middle - half_, v);
  return low - smoothstep(middle + half_, middle + half_ + soft, v);
}
void main() {
  #include <clipping_planes_fragment>
  vec3 n = normalize(vNormal);
  // The view is without perspective: all of it is seen along one way.
  vec3 v = vec3(0.0, 0.0, -1.0);
  if (n.z < 0.0) n = -n;
  vec3 r = reflect(v, n);
  if (stripes) {
    float t = atan(r.y, length(r.xz)) * 9.0;
    float w = max(fwidth(t), 1e-4);
    float s = abs(fract(t) - 0.5) - 0.25;
    float k = clamp(0.5 + s / w, 0.0, 1.0);
    gl_FragColor = vec4(mix(vec3(0.137, 0.149, 0.165), vec3(0.984, 0.976, 0.957), k), 1.0);
    return;
  }
  // A workshop: a dark floor, a pale wall, three long lamps under the ceiling.
  float up = r.y;
  float lamp = panel(up, 0.62, 0.05, 0.02) + panel(up, 0.8, 0.035, 0.015) + panel(up, 0.35, 0.03, 0.02);
  lamp *= smoothstep(0.95, 0.7, abs(r.x));
  vec3 wall = mix(vec3(0.30, 0.29, 0.28), vec3(0.72, 0.70, 0.66), smoothstep(-0.15, 0.5, up));
  vec3 base = mix(vec3(0.16, 0.15, 0.14), wall, smoothstep(-0.12, -0.06, up));
  gl_FragColor = vec4(base + lamp * vec3(0.55, 0.54, 0.5), 1.0);
}`

/** The material of a way to shine; null: as it is. */
export function shineOf(shine: Shine): THREE.ShaderMaterial | null {
  if (shine === 'matt') return null
  return new THREE.ShaderMaterial({
    vertexShader: VERTEX,
    fragmentShader: FRAGMENT,
    uniforms: { stripes: { value: shine === 'zebra' } },
    side: THREE.DoubleSide,
    clipping: true,
    polygonOffset: true,
    polygonOffsetFactor: 1,
    polygonOffsetUnits: 1,
  })
}
