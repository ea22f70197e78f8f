// What the pages' scripts find in the browser besides its own.
interface Window {
  htmx: {
    ajax(method: string, url: string, options: { target: string; swap: string }): void;
    process(element: Element): void;
  };
}
