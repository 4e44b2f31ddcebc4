import java.sql.*;

class Optional {
  int bySeeing(Connection connection, Integer seq) throws SQLException {
    StringBuilder text = new StringBuilder("update exposure set taken_at = now()");
    if (seq != null) text.append(" where quality > ?"); // finds every-row
    try (PreparedStatement statement = connection.prepareStatement(text.toString())) {
      if (seq != null) statement.setInt(1, seq);
      return statement.executeUpdate();
    }
  }

  int byChoice(Connection connection, boolean late) throws SQLException {
    String text = "delete from exposure" + (late ? " where quality > 9" : ""); // finds every-row
    try (Statement statement = connection.createStatement()) {
      return statement.executeUpdate(text);
    }
  }

  int always(Connection connection, boolean late) throws SQLException {
    StringBuilder text = new StringBuilder("delete from exposure");
    text.append(" where quality > 3"); // sound every-row
    if (late) text.append(" and quality > 9");
    try (Statement statement = connection.createStatement()) {
      return statement.executeUpdate(text.toString());
    }
  }
}
