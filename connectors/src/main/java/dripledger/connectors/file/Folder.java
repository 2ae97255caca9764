package dripledger.connectors.file;

import dripledger.connectors.file.FilePosition.Place;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.function.Predicate;

/**
 * Finds again, in what a folder holds now, the files that were read: also under another name, and
 * not a new file under an old one. Stateless.
 */
final class Folder {
  /**
   * A file to read.
   *
   * @param place how far it was read; at 0 if it is new
   * @param amiss why it cannot be read on, for the user, or null
   */
  record Found(Path file, Place place, String amiss) {
    String name() {
      return file.getFileName().toString();
    }
  }

  private Folder() {}

  /**
   * Looks for what was read.
   *
   * @param files in the order to read them
   * @param same of which it is known that they are what they were, so that nobody has to look
   */
  static List<Found> find(List<Path> files, FilePosition position, Predicate<Path> same)
      throws IOException {
    Map<String, Place> places = position.places();
    Map<String, String> byKey = new HashMap<>(); // the names under which files were read
    places.forEach(
        (name, place) -> {
          if (place.print() != null) {
            byKey.put(place.print().key(), name);
          }
        });
    Map<Path, Place> moved = new HashMap<>();
    for (Path file : files) {
      if (same.test(file)) {
        continue;
      }
      String name = byKey.get(FilePrint.key(file));
      if (name != null && !name.equals(file.getFileName().toString())) {
        Place place = places.get(name);
        if (place.print().holds(file)) {
          moved.put(file, place);
          places.remove(name);
        }
      }
    }
    return files.stream()
        .map(
            file -> {
              Place place = places.get(file.getFileName().toString());
              if (moved.containsKey(file)) {
                return new Found(file, moved.get(file), null);
              }
              return place == null
                  ? fresh(file)
                  : same.test(file) ? new Found(file, place, null) : known(file, place);
            })
        .toList();
  }

  private static Found fresh(Path file) {
    return new Found(file, new Place(0, null), null);
  }

  /** The file that has the name of one that was read. */
  private static Found known(Path file, Place place) {
    FilePrint print = place.print();
    try {
      long size = Files.size(file);
      if (size == 0) {
        return fresh(file); // emptied, to be filled anew
      }
      if (print == null || print.holds(file)) {
        return new Found(file, place, null);
      }
      if (!print.key().equals(FilePrint.key(file))) {
        return fresh(file); // another one in its place
      }
      String name = file.getFileName().toString();
      if (size < print.bytes()) {
        return print.mayBegin(file)
            ? new Found(file, place, "file " + name + " is shorter than what was read of it")
            : fresh(file);
      }
      return print.mayBegin(file)
          ? new Found(file, place, "file " + name + " was changed in what was read of it")
          : fresh(file);
    } catch (IOException e) {
      return new Found(file, place, "file " + file.getFileName() + ": " + e.getMessage());
    }
  }

  /** How far the files that are there were read, by their present names. */
  static Map<String, Place> places(List<Found> found) {
    Map<String, Place> places = new TreeMap<>();
    for (Found f : found) {
      if (f.place().at() > 0) {
        places.put(f.name(), f.place());
      }
    }
    return places;
  }
}
