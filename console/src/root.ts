/** Where the console is: the path of its base element, without the last slash; "" at the root. */
export const ROOT = new URL(document.baseURI).pathname.replace(/[^/]*$/, "").replace(/\/$/, "");

/** The address of the API. */
export const API = `${ROOT}/api/v1`;

/** The public address of the service, for what people copy. */
export const ADDRESS = location.origin + ROOT;
