package dripledger.engine;

import static com.tngtech.archunit.lang.syntax.ArchRuleDefinition.noClasses;
import static com.tngtech.archunit.library.dependencies.SlicesRuleDefinition.slices;
import static org.assertj.core.api.Assertions.assertThat;

import com.tngtech.archunit.core.domain.JavaClass;
import com.tngtech.archunit.core.domain.JavaClasses;
import com.tngtech.archunit.core.importer.ClassFileImporter;
import com.tngtech.archunit.core.importer.ImportOption;
import com.tngtech.archunit.library.dependencies.SliceAssignment;
import com.tngtech.archunit.library.dependencies.SliceIdentifier;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.List;
import java.util.stream.Stream;
import org.junit.jupiter.api.Test;

/** The rules of the rooms. */
class ArchitectureTest {
  private static final JavaClasses ENGINE =
      new ClassFileImporter()
          .withImportOption(ImportOption.Predefined.DO_NOT_INCLUDE_TESTS)
          .importPackages("dripledger.engine");

  @Test
  void theEngineKnowsNoOutsideWorld() {
    noClasses()
        .should()
        .dependOnClassesThat()
        .resideInAnyPackage(
            "java.sql..",
            "javax.sql..",
            "java.net.http..",
            "org.springframework..",
            "jakarta..",
            "org.apache.kafka..",
            "org.postgresql..",
            "tools.jackson..")
        .check(ENGINE);
  }

  /** Its evaluator of JSON paths is a function like others, and works at run time. */
  @Test
  void theSqlLibraryIsKnownInOneRoomOnly() {
    noClasses()
        .that()
        .resideOutsideOfPackage("dripledger.engine.sql..")
        .and()
        .doNotHaveSimpleName("JsonBuiltins")
        .should()
        .dependOnClassesThat()
        .resideInAnyPackage("org.apache.calcite..", "dripledger.grammar..")
        .check(ENGINE);
  }

  @Test
  void plansAndDefinitionsHoldNoGeneratedCode() {
    noClasses()
        .that()
        .resideInAnyPackage("dripledger.engine.plan..", "dripledger.engine.catalog..")
        .should()
        .dependOnClassesThat()
        .haveNameMatching(".*\\.(RowProgram|ProgramCompiler.*|GeneratedCode)")
        .check(ENGINE);
  }

  /** Each package is a room, the root too. */
  @Test
  void packagesHaveNoCycles() {
    slices()
        .assignedFrom(
            new SliceAssignment() {
              @Override
              public SliceIdentifier getIdentifierOf(JavaClass each) {
                return SliceIdentifier.of(each.getPackageName());
              }

              @Override
              public String getDescription() {
                return "packages";
              }
            })
        .should()
        .beFreeOfCycles()
        .check(ENGINE);
  }

  /** What others see of the engine first: the engine, and what it is given. */
  @Test
  void theRootHoldsTheFacadeOnly() {
    assertThat(
            ENGINE.stream()
                .filter(c -> c.getPackageName().equals("dripledger.engine"))
                .filter(c -> c.isTopLevelClass() && !c.getSimpleName().equals("package-info"))
                .map(JavaClass::getSimpleName)
                .toList())
        .containsExactlyInAnyOrder("Engine", "EngineOptions", "Records");
  }

  /** Those who carry statements out know what is defined, and not who sent them. */
  @Test
  void onlyDefinitionsSendsOthers() {
    noClasses()
        .that()
        .resideInAPackage("dripledger.engine.definition")
        .and()
        .haveNameNotMatching(".*\\.Definitions(\\$.*)?")
        .should()
        .dependOnClassesThat()
        .haveSimpleName("Definitions")
        .check(ENGINE);
  }

  /** Whoever inherits a file can read it in one go. */
  @Test
  void noFileIsLongerThanFiveHundredLines() throws IOException {
    try (Stream<Path> files = Files.walk(Path.of("..").toRealPath())) {
      List<Path> sources =
          files
              .filter(f -> f.toString().matches(".*/src/(main|test)/.*\\.(java|ts|vue)"))
              .filter(f -> !f.toString().contains("/node_modules/"))
              .toList();
      assertThat(sources).hasSizeGreaterThan(200);
      for (Path source : sources) {
        assertThat(Files.readAllLines(source).size()).as(source.toString()).isLessThan(501);
      }
    }
  }
}
