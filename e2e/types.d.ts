// What the page's scripts find on their global object.
declare global {
  // htmx ships without types of its own.
  var htmx: any;
  // What the tests look at.
  var fennik: any;
}
export {};
