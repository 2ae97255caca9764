package dripledger.connectors.file;

import dripledger.connectors.file.FilePosition.Place;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.TreeMap;

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
   */
  static List<Found> find(List<Path> files, FilePosition position) throws IOException {
    Map<String, Place> places = position.places();
    Map<String, String> byKey = new HashMap<>(); // the names under which files were read
    places.forEach(
        (name, place) -> {
          if (place.print() != null) {
            byKey.put(place.print().key(), name);
          }
        });
    Map<Path, Place> same = new HashMap<>();
    for (Path file : files) {
      String name = byKey.get(FilePrint.key(file));
      if (name != null && !name.equals(file.getFileName().toString())) {
        Place place = places.get(name);
        if (place.print().holds(file)) {
          same.put(file, place);
          places.remove(name);
        }
      }
    }
    Set<Path> renamed = Set.copyOf(same.keySet());
    return files.stream()
        .map(
            file -> {
              Place place = places.get(file.getFileName().toString());
              return renamed.contains(file)
                  ? new Found(file, same.get(file), null)
                  : place == null ? fresh(file) : known(file, place);
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
