// What scripts of a page may rely on beyond what a browser says of itself.

// listeners on the document: what is pressed there is an element
interface EventTarget {
  id: string;
  classList: DOMTokenList;
  files: FileList;
  elements: any;
  closest(selector: string): any;
  matches(selector: string): boolean;
}
interface Element {
  dataset: DOMStringMap;
  setAttribute(name: string, value: string | number | boolean): void;
}
interface CSSStyleDeclaration {
  setProperty(name: string, value: string | number | null, priority?: string): void;
}
interface Window {
  miclane: any;
}
declare const htmx: any;

// the audio worklet
declare const sampleRate: number;
declare class AudioWorkletProcessor {
  port: MessagePort;
}
declare function registerProcessor(name: string, processor: any): void;
