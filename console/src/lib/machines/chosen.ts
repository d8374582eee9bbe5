/** Machines chosen on one page for another: too many for an address. */
const KEY = 'phylax-chosen-machines';

export function handOver(ids: number[]): void {
  sessionStorage.setItem(KEY, JSON.stringify(ids));
}

export function handedOver(): number[] {
  try {
    const ids: unknown = JSON.parse(sessionStorage.getItem(KEY) ?? '[]');
    return Array.isArray(ids) ? ids.filter((id) => Number.isInteger(id)) : [];
  } catch {
    return [];
  }
}
