package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;

/**
 * The blocks of a relation in the order of its key, made when somebody first asked for it. It stays
 * right as long as no key comes or goes.
 *
 * @param membership the state of keys it was made for
 * @param keys encoded, ascending
 * @param blocks beside them
 */
record GroupOrder(long membership, byte[][] keys, int[] blocks) {
  /** The first place whose key is not below the bytes; the number of keys if all are. */
  int from(byte[] bound) {
    int low = 0;
    int high = keys.length;
    while (low < high) {
      int middle = (low + high) >>> 1;
      byte[] key = keys[middle];
      if (Bytes.compare(key, 0, key.length, bound, 0, bound.length) < 0) {
        low = middle + 1;
      } else {
        high = middle;
      }
    }
    return low;
  }
}
