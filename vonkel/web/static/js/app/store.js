// A small store: named values, and watchers who are told once after a turn in which some of them changed.

export class Store {
  /** @type {Map<string, any>} */ #values;
  /** @type {Set<{ keys: Set<string> | null, act: (changed: Set<string>) => void }>} */ #watchers = new Set();
  /** @type {Set<string>} */ #changed = new Set();

  /** @param {Record<string, any>} values What there is, and how it begins: no other name can be set. */
  constructor(values) {
    this.#values = new Map(Object.entries(values));
    for (const key of this.#values.keys())
      Object.defineProperty(this, key, {
        enumerable: true,
        get: () => this.#values.get(key),
        set: (value) => {
          if (Object.is(this.#values.get(key), value)) return;
          this.#values.set(key, value);
          this.touch(key);
        },
      });
  }

  /** Put something into a set that is kept here, or take it out. */
  put(key, member, on) {
    const set = this.#values.get(key);
    if (on) set.add(member);
    else set.delete(member);
    this.touch(key);
  }

  /** A value changed from within, such as a map that something was added to. */
  touch(key) {
    if (!this.#changed.size) queueMicrotask(() => this.#tell());
    this.#changed.add(key);
  }

  /**
   * Be told of changes, to some names or to all (null).  Returns what ends it.
   * @param {string[] | null} keys @param {(changed: Set<string>) => void} act
   */
  watch(keys, act) {
    const watcher = { keys: keys && new Set(keys), act };
    this.#watchers.add(watcher);
    return () => this.#watchers.delete(watcher);
  }

  /** How many watch. */
  get watchers() {
    return this.#watchers.size;
  }

  #tell() {
    const changed = this.#changed;
    this.#changed = new Set();
    for (const { keys, act } of [...this.#watchers])
      if (!keys || [...changed].some((key) => keys.has(key))) act(changed);
  }
}

/**
 * A store of these values and no others: setting any other fails.
 * @template {Record<string, any>} T
 * @param {T} values
 * @returns {Store & T}
 */
export const store = (values) => /** @type {any} */ (Object.preventExtensions(new Store(values)));

/**
 * The same, to be built on: what is given to it stands on the object under its own name.
 * @type {new (values: Record<string, any>) => Store & Record<string, any>}
 */
export const OpenStore = /** @type {any} */ (Store);
