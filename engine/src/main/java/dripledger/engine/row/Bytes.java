package dripledger.engine.row;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;
import java.nio.ByteOrder;

/** Reads and writes primitive values at unaligned places of a byte array. All methods are pure. */
public final class Bytes {
  private static final VarHandle LONG =
      MethodHandles.byteArrayViewVarHandle(long[].class, ByteOrder.LITTLE_ENDIAN);
  private static final VarHandle LONG_BE =
      MethodHandles.byteArrayViewVarHandle(long[].class, ByteOrder.BIG_ENDIAN);
  private static final VarHandle INT =
      MethodHandles.byteArrayViewVarHandle(int[].class, ByteOrder.LITTLE_ENDIAN);

  private Bytes() {}

  public static long getLong(byte[] bytes, int at) {
    return (long) LONG.get(bytes, at);
  }

  public static void putLong(byte[] bytes, int at, long value) {
    LONG.set(bytes, at, value);
  }

  public static int getInt(byte[] bytes, int at) {
    return (int) INT.get(bytes, at);
  }

  public static void putInt(byte[] bytes, int at, int value) {
    INT.set(bytes, at, value);
  }

  /** Big-endian, so that unsigned comparison of the result is comparison of the bytes. */
  public static long getLongBigEndian(byte[] bytes, int at) {
    return (long) LONG_BE.get(bytes, at);
  }

  public static void putLongBigEndian(byte[] bytes, int at, long value) {
    LONG_BE.set(bytes, at, value);
  }

  /**
   * Unsigned lexicographic comparison; a proper prefix comes first. Eight bytes a step: entries are
   * short, and the library's vector routine costs more to enter than it saves.
   */
  public static int compare(byte[] a, int aFrom, int aTo, byte[] b, int bFrom, int bTo) {
    int common = Math.min(aTo - aFrom, bTo - bFrom);
    int i = 0;
    for (; i + 8 <= common; i += 8) {
      long x = getLongBigEndian(a, aFrom + i);
      long y = getLongBigEndian(b, bFrom + i);
      if (x != y) {
        return Long.compareUnsigned(x, y);
      }
    }
    for (; i < common; i++) {
      int d = (a[aFrom + i] & 0xFF) - (b[bFrom + i] & 0xFF);
      if (d != 0) {
        return d;
      }
    }
    return (aTo - aFrom) - (bTo - bFrom);
  }

  public static boolean equal(byte[] a, int aFrom, byte[] b, int bFrom, int length) {
    int i = 0;
    for (; i + 8 <= length; i += 8) {
      if (getLong(a, aFrom + i) != getLong(b, bFrom + i)) {
        return false;
      }
    }
    for (; i < length; i++) {
      if (a[aFrom + i] != b[bFrom + i]) {
        return false;
      }
    }
    return true;
  }

  /**
   * Copies a range within different arrays; for rows, which are short, eight bytes a step beat the
   * library's routine.
   */
  public static void copy(byte[] source, int from, byte[] target, int to, int length) {
    if (length > 96) {
      System.arraycopy(source, from, target, to, length);
      return;
    }
    int i = 0;
    for (; i + 8 <= length; i += 8) {
      putLong(target, to + i, getLong(source, from + i));
    }
    for (; i < length; i++) {
      target[to + i] = source[from + i];
    }
  }

  /**
   * A 64-bit hash of a range: eight bytes a step, multiplied and folded, with a final avalanche
   * (the finalizer is that of SplitMix64, Steele et al., OOPSLA 2014). Not for adversarial keys.
   */
  public static long hash(byte[] bytes, int from, int length) {
    long h = 0x9E3779B97F4A7C15L ^ length;
    int at = from;
    int end = from + length;
    while (end - at >= 8) {
      h = (h ^ getLong(bytes, at)) * 0xBF58476D1CE4E5B9L;
      h ^= h >>> 32;
      at += 8;
    }
    long tail = 0;
    for (int shift = 0; at < end; at++, shift += 8) {
      tail |= (bytes[at] & 0xFFL) << shift;
    }
    h = (h ^ tail) * 0x94D049BB133111EBL;
    h ^= h >>> 29;
    h *= 0xBF58476D1CE4E5B9L;
    return h ^ (h >>> 32);
  }
}
