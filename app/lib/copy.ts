// Texts for other programs.
import { tell } from '../ui/toasts';

/** To the clipboard, and says so. */
export function copyText(text: string): void {
  // Only addresses that a browser trusts have one at all.
  const clipboard = navigator.clipboard as Clipboard | undefined;
  const cannot = () => tell('This browser does not let the page copy. Nothing was copied.');
  if (!clipboard) return cannot();
  void clipboard.writeText(text).then(() => tell(`Copied ${text}`), cannot);
}
