package dripledger.server.records;

import java.lang.reflect.InvocationTargetException;
import java.lang.reflect.Proxy;
import java.sql.Connection;
import java.sql.SQLException;
import java.util.concurrent.atomic.AtomicInteger;
import javax.sql.DataSource;

/** A database whose next commits go through although their answers are lost. */
final class LostAnswers {
  private final AtomicInteger toLose = new AtomicInteger();
  private final DataSource dataSource;

  LostAnswers(DataSource of) {
    dataSource =
        (DataSource)
            Proxy.newProxyInstance(
                DataSource.class.getClassLoader(),
                new Class<?>[] {DataSource.class},
                (proxy, method, arguments) -> {
                  Object answer = method.invoke(of, arguments);
                  return answer instanceof Connection c ? losing(c) : answer;
                });
  }

  DataSource dataSource() {
    return dataSource;
  }

  void lose(int commits) {
    toLose.set(commits);
  }

  private Connection losing(Connection c) {
    return (Connection)
        Proxy.newProxyInstance(
            Connection.class.getClassLoader(),
            new Class<?>[] {Connection.class},
            (proxy, method, arguments) -> {
              Object answer;
              try {
                answer = method.invoke(c, arguments);
              } catch (InvocationTargetException e) {
                throw e.getCause();
              }
              if (method.getName().equals("commit")
                  && toLose.getAndUpdate(n -> n > 0 ? n - 1 : 0) > 0) {
                throw new SQLException("the connection was lost", "08006");
              }
              return answer;
            });
  }
}
