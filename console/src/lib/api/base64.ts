/** The bytes of a file as base64, as JSON carries them. */
export async function inBase64(file: File): Promise<string> {
  const url = await new Promise<string>((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve(String(reader.result));
    reader.onerror = () => reject(new Error('The file cannot be read.'));
    reader.readAsDataURL(file);
  });
  return url.slice(url.indexOf(',') + 1);
}
