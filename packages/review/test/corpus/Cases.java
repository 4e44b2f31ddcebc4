import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.List;
import javax.sql.DataSource;

class Cases {
    private final DataSource source;

    Cases(DataSource source) {
        this.source = source;
    }

    String closedByTry(String code) throws SQLException {
        try (Connection connection = source.getConnection();
             PreparedStatement statement = connection.prepareStatement("select name from telescope where code = ?")) { // sound session-kept, value-in-text, parameter-count
            statement.setString(1, code);
            try (ResultSet rows = statement.executeQuery()) {
                return rows.next() ? rows.getString(1) : null;
            }
        }
    }

    String neverClosed(String code) throws SQLException {
        Connection connection = source.getConnection();
        PreparedStatement statement = connection.prepareStatement("select name from telescope where code = ?"); // finds session-kept
        statement.setString(1, code);
        ResultSet rows = statement.executeQuery();
        return rows.next() ? rows.getString(1) : null;
    }

    void committed(String from, String to) throws SQLException {
        try (Connection connection = source.getConnection()) {
            connection.setAutoCommit(false);
            try (PreparedStatement take = connection.prepareStatement("update budget set hours = hours - 1 where code = ?"); // sound never-committed, apart, session-kept
                 PreparedStatement give = connection.prepareStatement("update budget set hours = hours + 1 where code = ?")) { // sound apart, never-committed
                take.setString(1, from);
                give.setString(1, to);
                if (take.executeUpdate() != 1 || give.executeUpdate() != 1) {
                    throw new SQLException("no such budget");
                }
                connection.commit();
            } catch (SQLException error) {
                connection.rollback();
                throw error;
            }
        }
    }

    void apart(String from, String to) throws SQLException {
        try (Connection connection = source.getConnection();
             PreparedStatement take = connection.prepareStatement("update budget set hours = hours - 1 where code = ?");
             PreparedStatement give = connection.prepareStatement("update budget set hours = hours + 1 where code = ?")) { // finds apart
            take.setString(1, from);
            give.setString(1, to);
            if (take.executeUpdate() != 1 || give.executeUpdate() != 1) {
                throw new SQLException("no such budget");
            }
        }
    }

    int batched(List<String> codes) throws SQLException {
        try (Connection connection = source.getConnection();
             PreparedStatement statement = connection.prepareStatement("delete from budget where code = any(?)")) { // sound one-by-one, count-ignored
            statement.setArray(1, connection.createArrayOf("text", codes.toArray()));
            return statement.executeUpdate();
        }
    }

    void saved(String code, String title, int version) throws SQLException {
        try (Connection connection = source.getConnection();
             PreparedStatement statement = connection.prepareStatement(
                 "update programme set title = ?, row_version = row_version + 1 where code = ? and row_version = ?")) { // sound unguarded-save, parameter-count
            statement.setString(1, title);
            statement.setString(2, code);
            statement.setInt(3, version);
            if (statement.executeUpdate() != 1) {
                throw new SQLException("changed meanwhile");
            }
        }
    }

    void overwritten(String code, String title) throws SQLException {
        try (Connection connection = source.getConnection();
             PreparedStatement statement = connection.prepareStatement("update programme set title = ? where code = ?")) { // finds unguarded-save
            statement.setString(1, title);
            statement.setString(2, code);
            if (statement.executeUpdate() != 1) {
                throw new SQLException("no such programme");
            }
        }
    }
}
