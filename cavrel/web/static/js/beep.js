/** One short tone, or a click of a counter. */
export function beep(frequency = 880, loud = 0.2, lasting = 0.35) {
  try {
    const audio = new AudioContext();
    const tone = audio.createOscillator();
    const gain = audio.createGain();
    tone.frequency.value = frequency;
    gain.gain.setValueAtTime(loud, audio.currentTime);
    gain.gain.exponentialRampToValueAtTime(0.001, audio.currentTime + lasting);
    tone.connect(gain).connect(audio.destination);
    tone.start();
    tone.stop(audio.currentTime + lasting + 0.05);
    tone.onended = () => audio.close();
  } catch { /* a silent room: the flash still shows */ }
}

let held = null; // the tone that sounds on

/** A tone that sounds on as loud as `loud`, from 0 to 1; null ends it. */
export function hum(loud, frequency = 512) {
  try {
    if (loud === null) {
      held?.audio.close();
      held = null;
      return;
    }
    if (!held) {
      const audio = new AudioContext();
      const tone = audio.createOscillator();
      const gain = audio.createGain();
      tone.connect(gain).connect(audio.destination);
      tone.start();
      held = { audio, tone, gain };
    }
    held.tone.frequency.value = frequency;
    held.gain.gain.setTargetAtTime(0.15 * loud, held.audio.currentTime, 0.05);
  } catch { /* a silent room: the bars still show */ }
}
