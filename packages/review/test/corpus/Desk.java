package desk;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import javax.sql.DataSource;

class Desk {
    private static final String LOAD = "select title from programme where code = ?";

    String load(Connection connection, String code) throws SQLException {
        try (PreparedStatement statement = connection.prepareStatement(LOAD)) {
            statement.setString(1, code);
            try (ResultSet result = statement.executeQuery()) {
                return result.next() ? result.getString(1) : null;
            }
        }
    }

    ResultSet loadConcatenated(Connection connection, String code) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeQuery("select title from programme where code = '" + code + "'"); // finds value-in-text
    }

    ResultSet loadFormatted(Connection connection, String code) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeQuery(String.format("select title from programme where code = '%s'", code)); // finds value-in-text
    }

    ResultSet loadTooFew(Connection connection, String code) throws SQLException {
        PreparedStatement statement = connection.prepareStatement("select title from programme where code = ? and semester = ?"); // finds parameter-count
        statement.setString(1, code);
        return statement.executeQuery();
    }

    ResultSet loadTooMany(Connection connection, String code, String semester) throws SQLException {
        PreparedStatement statement = connection.prepareStatement("select title from programme where code = ?"); // finds parameter-count
        statement.setString(1, code);
        statement.setString(2, semester);
        return statement.executeQuery();
    }

    int removeAll(Connection connection) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeUpdate("delete from exposure"); // finds every-row
    }

    int raiseAll(Connection connection) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeUpdate("update programme set priority = priority + 1 where 1 = 1"); // finds every-row
    }

    ResultSet withoutEmail(Connection connection) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeQuery("select code from programme where contact_email = null"); // finds null-comparison
    }

    ResultSet misspelled(Connection connection) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeQuery("select titel from programme"); // finds unknown-name
    }

    ResultSet broken(Connection connection) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeQuery("select code from from programme"); // finds does-not-parse
    }

    void rename(Connection connection, int id, String name) throws SQLException {
        PreparedStatement statement = connection.prepareStatement("update observer set name = ? where id = ?"); // finds count-ignored
        statement.setString(1, name);
        statement.setInt(2, id);
        statement.executeUpdate();
    }

    void renameCounted(Connection connection, int id, String name) throws SQLException {
        PreparedStatement statement = connection.prepareStatement("update observer set name = ? where id = ?");
        statement.setString(1, name);
        statement.setInt(2, id);
        int rows = statement.executeUpdate();
        if (rows != 1) {
            throw new SQLException("no such observer");
        }
    }

    int saveTitle(Connection connection, String code, String title) throws SQLException {
        PreparedStatement statement = connection.prepareStatement("update programme set title = ? where code = ?"); // finds unguarded-save
        statement.setString(1, title);
        statement.setString(2, code);
        return statement.executeUpdate();
    }

    int byName(Connection connection, String name) throws SQLException {
        PreparedStatement statement = connection.prepareStatement("update observer set role = 'lead' where name = ?"); // finds not-one-row
        statement.setString(1, name);
        return statement.executeUpdate();
    }

    int renumber(Connection connection, int old, int now) throws SQLException {
        PreparedStatement statement = connection.prepareStatement("update observer set id = ? where id = ?"); // finds key-assigned
        statement.setInt(1, now);
        statement.setInt(2, old);
        return statement.executeUpdate();
    }

    int transferApart(DataSource source, String giver, String taker) throws SQLException {
        try (Connection connection = source.getConnection(); Statement statement = connection.createStatement()) {
            int one = statement.executeUpdate("update budget set hours = hours - 1 where code = 'A'");
            int other = statement.executeUpdate("update budget set hours = hours + 1 where code = 'B'"); // finds apart
            return one + other;
        }
    }

    int transfer(DataSource source) throws SQLException {
        try (Connection connection = source.getConnection(); Statement statement = connection.createStatement()) {
            connection.setAutoCommit(false);
            try {
                int one = statement.executeUpdate("update budget set hours = hours - 1 where code = 'A'");
                int other = statement.executeUpdate("update budget set hours = hours + 1 where code = 'B'");
                connection.commit();
                return one + other;
            } catch (SQLException error) {
                connection.rollback();
                throw error;
            }
        }
    }

    int neverCommits(Connection connection) throws SQLException {
        connection.setAutoCommit(false);
        Statement statement = connection.createStatement();
        return statement.executeUpdate("delete from telescope where code = 'HF9'"); // finds never-committed
    }

    ResultSet hold(Connection connection) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeQuery("select code from telescope where code = 'HF1' for update"); // finds unbounded-wait
    }

    int each(Connection connection, String[] codes) throws SQLException {
        int rows = 0;
        for (String code : codes) {
            PreparedStatement statement = connection.prepareStatement("update telescope set name = upper(name) where code = ?"); // finds one-by-one
            statement.setString(1, code);
            rows += statement.executeUpdate();
        }
        return rows;
    }

    String kept(DataSource source) throws SQLException {
        Connection connection = source.getConnection();
        Statement statement = connection.createStatement();
        ResultSet result = statement.executeQuery("select name from telescope"); // finds session-kept
        return result.getString(1);
    }

    ResultSet castColumn(Connection connection) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeQuery("select name from observer where id::text = '7'"); // finds type-mismatch
    }

    ResultSet block(Connection connection, String state) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeQuery("""
            select id
            from block
            where assigned_to = null
            """); // finds null-comparison at -1
    }

    int bothInOne(Connection connection) throws SQLException {
        Statement statement = connection.createStatement();
        return statement.executeUpdate("begin; delete from telescope where code = 'HF9'; commit"); // finds transaction-inside
    }
}
