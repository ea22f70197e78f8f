// What the pages' scripts find in the browser besides its own.
interface Window {
  htmx: {
    ajax(method: string, url: string, options: { target: string; swap: string }): void;
    process(element: Element): void;
  };
}

// WebCodecs (W3C), as far as light copies are decoded with it.
declare class VideoFrame {
  readonly timestamp: number;
  readonly displayWidth: number;
  readonly displayHeight: number;
  close(): void;
}
declare class EncodedVideoChunk {
  constructor(init: { type: "key" | "delta"; timestamp: number; data: Uint8Array });
}
declare class VideoDecoder {
  constructor(init: { output: (frame: VideoFrame) => void; error: (error: unknown) => void });
  readonly state: "unconfigured" | "configured" | "closed";
  configure(config: object): void;
  decode(chunk: EncodedVideoChunk): void;
  flush(): Promise<void>;
  close(): void;
}
interface CanvasDrawImage {
  drawImage(image: VideoFrame, x: number, y: number, width: number, height: number): void;
}
