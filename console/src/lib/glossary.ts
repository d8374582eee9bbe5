/** What words mean, as the glossary of the documentation has it. Fetched when first asked for. */
import text from '../../../docs/glossary.md?raw';

const ROW = /^\| (\*\*.+?\*\*.*?) \| (.+) \|$/;
const WORD = /\*\*(.+?)\*\*/g;

function read(): Record<string, string> {
  const meanings: Record<string, string> = {};
  for (const line of text.split('\n')) {
    const row = ROW.exec(line);
    if (!row) continue;
    const meaning = plain(row[2] ?? '');
    const words = [...(row[1] ?? '').matchAll(WORD)].map((match) => match[1] ?? '');
    // several words of one row are told apart by semicolons, where there are as many
    const parts = meaning.split('; ');
    words.forEach((word, n) => {
      meanings[word] = parts.length === words.length ? (parts[n] ?? '') : meaning;
    });
  }
  return meanings;
}

const plain = (markdown: string) => markdown.replaceAll('**', '').replaceAll('`', '');

export const meanings = read();
