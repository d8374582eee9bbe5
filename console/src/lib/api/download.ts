/** Listings as files, in the form that other programs read. */
import { CallError } from './queries';

/** Fetch an address as CSV and give it to the browser under a name. */
export async function downloadCsv(address: string, name: string): Promise<void> {
  const response = await fetch(address, { headers: { Accept: 'text/csv' } }).catch(() => null);
  if (!response?.ok) {
    const problem: unknown = await response?.json().catch(() => null);
    throw new CallError(problem ?? new TypeError('no answer'), response?.status ?? 503);
  }
  const link = document.createElement('a');
  link.href = URL.createObjectURL(await response.blob());
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
