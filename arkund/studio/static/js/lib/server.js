// Talking with the server: JSON with the CSRF token, errors as sentences, and waiting for jobs.

const token = () => document.querySelector('meta[name="csrf"]').content;

export class Refused extends Error {
  constructor(message, status) {
    super(message);
    this.status = status;
  }
}

async function explain(response) {
  const data = await response.json().catch(() => ({}));
  return new Refused(data.error || `The server answered ${response.status}.`, response.status);
}

export async function get(address) {
  const response = await fetch(address, { headers: { accept: "application/json" } });
  if (!response.ok) throw await explain(response);
  return response.json();
}

/** Ask where only the newest answer counts: one that was overtaken by another is null, however late it comes. */
export function newest() {
  let last = 0;
  return async (address) => {
    last += 1;
    const mine = last;
    try {
      const found = await get(address);
      return mine === last ? found : null;
    } catch (error) {
      if (mine === last) throw error;
      return null;
    }
  };
}

/** `keepalive` : it is sent even where the page is left meanwhile. */
export async function post(address, data = {}, keepalive = false) {
  const body = data instanceof FormData ? data : JSON.stringify(data);
  const headers = { "X-CSRFToken": token(), accept: "application/json" };
  if (!(data instanceof FormData)) headers["content-type"] = "application/json";
  const response = await fetch(address, { method: "POST", body, headers, keepalive });
  if (!response.ok) throw await explain(response);
  return response.json();
}

/** Samples of one channel, float32. */
export async function samples(address) {
  const response = await fetch(address);
  if (!response.ok) throw await explain(response);
  return new Float32Array(await response.arrayBuffer());
}

/** Audio as planar float32 with its figures. */
export async function audio(address, data, signal) {
  const response = await fetch(address, {
    method: "POST",
    body: JSON.stringify(data),
    headers: { "X-CSRFToken": token(), "content-type": "application/json" },
    signal,
  });
  if (!response.ok) throw await explain(response);
  const about = JSON.parse(response.headers.get("x-audition"));
  const all = new Float32Array(await response.arrayBuffer());
  return { ...about, left: all.subarray(0, all.length / 2), right: all.subarray(all.length / 2) };
}

/** Upload with progress; resolves with the answer. */
export function upload(address, form, onProgress) {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", address);
    request.setRequestHeader("X-CSRFToken", token());
    request.upload.onprogress = (e) => e.lengthComputable && onProgress(e.loaded / e.total);
    request.onerror = () => reject(new Refused("The upload was interrupted; try again.", 0));
    request.onload = () => {
      let data = {};
      try {
        data = JSON.parse(request.responseText);
      } catch {
        data = { error: `The server answered ${request.status}.` };
      }
      if (request.status < 300) resolve(data);
      else reject(new Refused(data.error, request.status));
    };
    request.send(form);
  });
}

/** Wait for a job; `onProgress` gets the job's row each time. Rejects where it failed or was cancelled. */
export async function follow(job, onProgress = () => {}) {
  for (;;) {
    const row = await get(`/jobs/${job}`);
    onProgress(row);
    if (row.state === "done") return row;
    if (row.state === "failed" || row.state === "cancelled") throw new Refused(row.message || row.state, 0);
    await new Promise((wake) => setTimeout(wake, 250));
  }
}
