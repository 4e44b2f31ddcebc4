package observatory;

import java.math.BigDecimal;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.List;
import javax.sql.DataSource;

public class H {
    private static final String SQL_RENAME = "UPDATE telescope SET name = ? WHERE code = ?";
    private static final String SQL_LOAD = "SELECT code, name FROM telescope WHERE code = ?";
    private final DataSource ds;

    H(DataSource ds) { this.ds = ds; }

    public boolean rename(String code, String name) throws SQLException {
        try (Connection con = ds.getConnection(); PreparedStatement ps = con.prepareStatement(SQL_RENAME)) {
            ps.setString(1, name);
            ps.setString(2, code);
            return ps.executeUpdate() > 0;
        }
    }

    public void renameBlind(String code, String name) throws SQLException {
        try (Connection con = ds.getConnection(); PreparedStatement ps = con.prepareStatement(SQL_RENAME)) { // finds count-ignored
            ps.setString(1, name);
            ps.setString(2, code);
            ps.executeUpdate();
        }
    }

    public String load(String code) throws SQLException {
        Connection con = ds.getConnection();
        PreparedStatement ps = con.prepareStatement(SQL_LOAD); // finds session-kept
        ps.setString(1, code);
        ResultSet rs = ps.executeQuery();
        String name = rs.next() ? rs.getString("name") : null;
        con.close();
        return name;
    }

    public void concat(Statement st, String code) throws SQLException {
        int n = st.executeUpdate("DELETE FROM telescope WHERE code = '" + code + "'"); // finds value-in-text
        if (n == 0) throw new SQLException("gone");
    }

    public void builder(Statement st, String code, String name) throws SQLException {
        StringBuilder sql = new StringBuilder("UPDATE telescope SET name = '").append(name).append("'"); // finds value-in-text
        sql.append(" WHERE code = '").append(code).append("'"); // finds value-in-text
        if (st.executeUpdate(sql.toString()) != 1) throw new SQLException("gone");
    }

    public void transfer(String from, String to, BigDecimal hours) throws SQLException {
        try (Connection con = ds.getConnection()) {
            con.setAutoCommit(false);
            try (PreparedStatement take = con.prepareStatement("UPDATE budget SET hours = hours - ? WHERE code = ?");
                 PreparedStatement give = con.prepareStatement("UPDATE budget SET hours = hours + ? WHERE code = ?")) {
                take.setBigDecimal(1, hours);
                take.setString(2, from);
                give.setBigDecimal(1, hours);
                give.setString(2, to);
                if (take.executeUpdate() != 1 || give.executeUpdate() != 1) {
                    con.rollback();
                    throw new SQLException("gone");
                }
                con.commit();
            } catch (SQLException e) {
                con.rollback();
                throw e;
            }
        }
    }

    public void apart(String from, String to, BigDecimal hours) throws SQLException {
        try (Connection con = ds.getConnection();
             PreparedStatement take = con.prepareStatement("UPDATE budget SET hours = hours - ? WHERE code = ?");
             PreparedStatement give = con.prepareStatement("UPDATE budget SET hours = hours + ? WHERE code = ?")) { // finds apart
            take.setBigDecimal(1, hours);
            take.setString(2, from);
            if (take.executeUpdate() != 1) throw new SQLException("gone");
            give.setBigDecimal(1, hours);
            give.setString(2, to);
            if (give.executeUpdate() != 1) throw new SQLException("gone");
        }
    }

    public void forgotCommit(String code) throws SQLException {
        try (Connection con = ds.getConnection()) {
            con.setAutoCommit(false);
            try (PreparedStatement ps = con.prepareStatement("DELETE FROM telescope WHERE code = ?")) { // finds never-committed
                ps.setString(1, code);
                if (ps.executeUpdate() != 1) throw new SQLException("gone");
            }
        }
    }

    public int each(Connection con, List<String> codes) throws SQLException {
        int n = 0;
        try (PreparedStatement ps = con.prepareStatement("DELETE FROM telescope WHERE code = ?")) { // finds one-by-one
            for (String code : codes) {
                ps.setString(1, code);
                n += ps.executeUpdate();
            }
        }
        return n;
    }

    public int[] batch(Connection con, List<String> codes) throws SQLException {
        try (PreparedStatement ps = con.prepareStatement("DELETE FROM telescope WHERE code = ?")) {
            for (String code : codes) {
                ps.setString(1, code);
                ps.addBatch();
            }
            return ps.executeBatch();
        }
    }

    public void indexTooHigh(Connection con, String code) throws SQLException {
        try (PreparedStatement ps = con.prepareStatement("DELETE FROM telescope WHERE code = ?")) { // finds parameter-count
            ps.setString(2, code);
            if (ps.executeUpdate() != 1) throw new SQLException("gone");
        }
    }

    public void lockBounded(Connection con, String code) throws SQLException {
        try (PreparedStatement ps = con.prepareStatement("SELECT id FROM programme WHERE code = ? FOR UPDATE NOWAIT")) {
            ps.setString(1, code);
            ps.executeQuery();
        }
    }

    public void nullCompare(Statement st) throws SQLException {
        ResultSet rs = st.executeQuery("SELECT id FROM programme WHERE contact_email <> NULL"); // finds null-comparison
        while (rs.next()) System.out.println(rs.getInt(1));
    }
}
