// Runs beside the page's sound: hands on what the microphone hears, block by block.
/* global AudioWorkletProcessor, registerProcessor */
class Microphone extends AudioWorkletProcessor {
  /** @param {(string | any[])[][]} inputs */
  process(inputs) {
    if (inputs[0][0]) this.port.postMessage(inputs[0][0].slice());
    return true;
  }
}
registerProcessor("microphone", Microphone);
