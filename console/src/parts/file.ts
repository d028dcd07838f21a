// Files that the browser keeps.

/** Hands a file to the browser, to be kept under a name. */
export function keepFile(file: Blob, name: string): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(file);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
