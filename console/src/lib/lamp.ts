/** Day or night, as somebody chose or as the system says. */
export function applyLamp(lamp: string): void {
  const night =
    lamp === 'night' || (lamp === 'system' && matchMedia('(prefers-color-scheme: dark)').matches);
  document.documentElement.dataset.mode = night ? 'dark' : 'light';
}
