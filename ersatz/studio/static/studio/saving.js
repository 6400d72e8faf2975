// @ts-check
// What is under way on the page and must be neither overtaken nor cut off: while anything is, the body carries `data-saving`.

let count = 0;

export const isSaving = () => count > 0;

/** The promise itself, counted until it ends.
 *  @template T
 *  @param {Promise<T>} promise */
export function whileSaving(promise) {
  const counted = (/** @type {number} */ by) => {
    count += by;
    document.body.toggleAttribute("data-saving", isSaving());
  };
  counted(1);
  return promise.finally(() => counted(-1));
}
