// The interface of the server.

/** What lies there, as it is.  Throws {what, where, todo}.  @returns {Promise<ArrayBuffer>} */
export async function bytes(path) {
  const response = await fetch(path);
  if (!response.ok) throw (await response.json()).error;
  return response.arrayBuffer();
}

/** Call it.  Throws {what, where, todo, status}.  @returns {Promise<any>} */
export async function call(method, path, body) {
  /** @type {RequestInit & { headers: Record<string, string> }} */
  const options = { method, headers: { accept: "application/json" } };
  if (body instanceof FormData) options.body = body;
  else if (body !== undefined) {
    options.body = JSON.stringify(body);
    options.headers["content-type"] = "application/json";
  }
  let response;
  try {
    response = await fetch(path, options);
  } catch {
    throw { what: "Vonkel doesn't answer.", where: "", todo: "Is it still running? Nothing that was saved is lost." };
  }
  const text = await response.text();
  let data = null;
  try {
    data = JSON.parse(text);
  } catch {
    /* not JSON: a failure inside */
  }
  if (!response.ok)
    throw {
      ...(data?.error ?? { what: "Something went wrong inside Vonkel.", where: path, todo: "" }),
      status: response.status,
    };
  return data;
}
