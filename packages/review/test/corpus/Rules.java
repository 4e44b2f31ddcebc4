import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.SQLException;

class Rules {
    int bound(Connection connection, String code) throws SQLException {
        try (PreparedStatement statement = connection.prepareStatement("update programme set priority = 2, row_version = row_version + 1 where code = ? and row_version = 3")) {
            statement.setString(1, code);
            return statement.executeUpdate();
        }
    }

    int pasted(Connection connection, String code) throws SQLException {
        try (PreparedStatement statement = connection.prepareStatement("delete from budget where code = '" + code + "'")) { // finds value-in-text
            return statement.executeUpdate();
        }
    }

    int everyRow(Connection connection) throws SQLException {
        try (PreparedStatement statement = connection.prepareStatement("delete from budget")) { // finds every-row
            return statement.executeUpdate();
        }
    }

    int fewer(Connection connection, String code) throws SQLException {
        try (PreparedStatement statement = connection.prepareStatement("update budget set hours = ? where code = ?")) { // finds parameter-count
            statement.setString(2, code);
            return statement.executeUpdate();
        }
    }

    int nothing(Connection connection) throws SQLException {
        try (PreparedStatement statement = connection.prepareStatement("delete from block where id = 3 and assigned_to = null")) { // finds null-comparison
            return statement.executeUpdate();
        }
    }

    int unknown(Connection connection, String code) throws SQLException {
        try (PreparedStatement statement = connection.prepareStatement("delete from budgets where code = ?")) { // finds unknown-name
            statement.setString(1, code);
            return statement.executeUpdate();
        }
    }
}
