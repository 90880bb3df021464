// As much of a browser as the outbox needs: a store by key, and a server that answers as a test says.
class Asked {
  constructor(result) {
    queueMicrotask(() => {
      this.result = structuredClone(result);
      this.onsuccess?.();
    });
  }
}

class Store {
  constructor(path) {
    this.path = path.split(".");
    this.rows = new Map();
  }
  key(row) {
    return this.path.reduce((value, name) => value[name], row);
  }
  getAll() {
    return new Asked([...this.rows.entries()].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, row]) => row));
  }
  get(key) {
    return new Asked(this.rows.get(key));
  }
  put(row) {
    this.rows.set(this.key(row), structuredClone(row));
    return new Asked(this.key(row));
  }
  delete(key) {
    this.rows.delete(key);
    return new Asked(undefined);
  }
}

const stores = new Map();
globalThis.indexedDB = {
  open() {
    const base = {
      createObjectStore: (name, { keyPath }) => stores.set(name, new Store(keyPath)),
      transaction: (name) => ({ objectStore: () => stores.get(name) }),
      close() {},
    };
    const asked = {};
    queueMicrotask(() => {
      asked.result = base;
      if (!stores.size) asked.onupgradeneeded?.();
      asked.onsuccess?.();
    });
    return asked;
  },
};

const Plain = globalThis.Request;
globalThis.Request = class extends Plain {
  constructor(url, init) {
    super(typeof url === "string" ? new URL(url, "http://127.0.0.1/") : url, init);
  }
};
globalThis.answerWith = () => {
  throw new Error("no test said what the server answers");
};
globalThis.fetch = async (request) => globalThis.answerWith(request);
