package dripledger.engine.row;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;
import java.nio.ByteOrder;
import java.util.Arrays;

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

  /** Unsigned lexicographic comparison; a proper prefix comes first. */
  public static int compare(byte[] a, int aFrom, int aTo, byte[] b, int bFrom, int bTo) {
    if (aTo - aFrom >= 8 && bTo - bFrom >= 8) {
      long x = getLongBigEndian(a, aFrom);
      long y = getLongBigEndian(b, bFrom);
      if (x != y) {
        return Long.compareUnsigned(x, y);
      }
    }
    return Arrays.compareUnsigned(a, aFrom, aTo, b, bFrom, bTo);
  }

  public static boolean equal(byte[] a, int aFrom, byte[] b, int bFrom, int length) {
    return Arrays.equals(a, aFrom, aFrom + length, b, bFrom, bFrom + length);
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
