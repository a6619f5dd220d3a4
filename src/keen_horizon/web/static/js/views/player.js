// @ts-check
// Plays the proxy and says which frame is on show. A proxy frame's number is its time times the rate, exactly.

/**
 * @param {HTMLVideoElement} video @param {number} rate frames per second @param {number} count frames
 * @param {(frame: number) => void} shown called when a frame's picture is there to be drawn
 */
export function mountPlayer(video, rate, count, shown) {
  let frame = 0;
  let wanted = -1;
  let seeking = false;
  let speed = 0;
  let stepping = 0;
  let bounds = { first: 0, last: count - 1 };
  let watch = 0;

  const clamp = (/** @type {number} */ n) => Math.min(count - 1, Math.max(0, Math.round(n)));
  const numberAt = (/** @type {number} */ time) => clamp(Math.floor(time * rate + 0.01));

  /** @param {number} number */
  function show(number) {
    frame = number;
    shown(frame);
  }

  function next() {
    if (wanted < 0 || seeking) return;
    seeking = true;
    video.currentTime = (wanted + 0.5) / rate;
  }

  function watchFrames() {
    watch = video.requestVideoFrameCallback((_now, data) => {
      if (speed > 0) {
        const number = clamp(Math.round(data.mediaTime * rate));
        if (number > bounds.last) {
          video.currentTime = (bounds.first + 0.5) / rate;
        } else show(number);
      }
      watchFrames();
    });
  }

  /** Play; being paused again before it began is no error. */
  const start = () => video.play().catch(() => {});
  const seeked = () => {
    seeking = false;
    const number = numberAt(video.currentTime);
    if (number === wanted) wanted = -1;
    show(number);
    next();
  };
  const ended = () => {
    if (speed > 0) {
      video.currentTime = (bounds.first + 0.5) / rate;
      start();
    }
  };
  const loaded = () => shown(frame);
  video.addEventListener("seeked", seeked);
  video.addEventListener("ended", ended);
  video.addEventListener("loadeddata", loaded);
  watchFrames();

  const api = {
    get frame() {
      return frame;
    },
    /** The frame on show, or the one on its way there. */
    get target() {
      return wanted < 0 ? frame : wanted;
    },
    get speed() {
      return speed;
    },
    /** @param {number} first @param {number} last */
    setBounds(first, last) {
      bounds = { first, last };
    },
    /** @param {number} number */
    seek(number) {
      wanted = clamp(number);
      next();
    },
    /** Play at a speed: 1, 2, 4, or backwards -1, -2, -4; 0 pauses. @param {number} value */
    play(value) {
      speed = value;
      clearInterval(stepping);
      if (value > 0) {
        if (frame >= bounds.last || frame < bounds.first) video.currentTime = (bounds.first + 0.5) / rate;
        video.playbackRate = value;
        start();
        return;
      }
      video.pause();
      if (value < 0) stepping = setInterval(() => api.seek(Math.max(bounds.first, frame - Math.max(1, Math.round((-value * rate) / 12)))), 1000 / 12);
      else api.seek(frame);
    },
    destroy() {
      clearInterval(stepping);
      video.cancelVideoFrameCallback(watch);
      video.removeEventListener("seeked", seeked);
      video.removeEventListener("ended", ended);
      video.removeEventListener("loadeddata", loaded);
    },
  };
  return api;
}
