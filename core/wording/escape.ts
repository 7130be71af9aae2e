// Text inside HTML and XML.
const ESCAPES: Record<string, string> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;', "'": '&#39;' };
export const escaped = (text: string) => text.replace(/[&<>"']/g, (letter) => ESCAPES[letter]!);
