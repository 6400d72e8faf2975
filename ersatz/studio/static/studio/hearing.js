// @ts-check
// Hearing a change before it is made: the bars in question looped, with it or without, at the loudness of the song as it is.

import { louderDb, packedUrl } from "./variant.js";

/** @typedef {import("./player.js").Player} Player */

/** Plays the bars with something tried ({edit} or {ask}), or as the song is for null. Neither wins by being louder. `isWanted()` is asked once it is rendered: another
 *  may have been asked for meanwhile.
 *  @param {Player} player
 *  @param {[number, number]} bars first and last
 *  @param {string} listen the song's address
 *  @param {object | null} tried
 *  @param {() => boolean} isWanted */
export async function hearWith(player, bars, listen, tried, isWanted) {
  const [first, last] = bars;
  player.hear("remake");
  if (!player.loop || player.loop.start !== first - 1) {
    player.loop = { start: first - 1, end: last };
    player.seek(first - 1);
  }
  const url = tried ? await packedUrl(listen, tried) : listen, louder = tried ? await louderDb(url, bars) : 0;
  if (!isWanted()) return;
  player.replaceRemake(url, { louderDb: louder });
  if (!player.isPlaying) player.play();
}
