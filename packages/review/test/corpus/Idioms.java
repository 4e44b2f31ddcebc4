import java.sql.*;
import java.util.*;
import javax.sql.DataSource;
import org.springframework.jdbc.core.namedparam.*;
import org.springframework.transaction.annotation.Transactional;
import jakarta.persistence.*;

class E {
    DataSource source; NamedParameterJdbcTemplate named; org.springframework.jdbc.core.JdbcTemplate jdbc; EntityManager em;

    // 1 sound
    boolean a(String code) throws SQLException {
        try (var c = source.getConnection(); var s = c.prepareStatement("delete from telescope where code = ?")) {
            s.setString(1, code);
            return s.executeUpdate() == 1;
        }
    }
    // 2 setter missing: parameter-count
    void b(String code) throws SQLException {
        try (var c = source.getConnection(); var s = c.prepareStatement("update telescope set name = ? where code = ?")) { // finds parameter-count
            s.setString(2, code);
            if (s.executeUpdate() == 0) throw new NoSuchElementException(code);
        }
    }
    // 3 execute is no count
    boolean x(String code) throws SQLException {
        try (var c = source.getConnection(); var s = c.prepareStatement("delete from telescope where code = ?")) { // finds count-ignored
            s.setString(1, code);
            return s.execute();
        }
    }
    // 4 transactional: count-ignored only
    @Transactional
    public void d(String a, String b) {
        jdbc.update("update telescope set name = ? where code = ?", "x", a); // finds count-ignored
        jdbc.update("update telescope set name = ? where code = ?", "y", b); // finds count-ignored
    }
    // 5 apart and count-ignored twice
    public void e(String a, String b) {
        jdbc.update("update telescope set name = ? where code = ?", "x", a); // finds count-ignored
        jdbc.update("update telescope set name = ? where code = ?", "y", b); // finds count-ignored, apart
    }
    // 6 named: parameter-count
    public int f(String code) {
        return named.update("update telescope set name = :name where code = :code", Map.of("code", code)); // finds parameter-count
    }
    // 7 named sound
    public int g(String code) {
        return named.update("update telescope set name = :name where code = :code",
            new MapSqlParameterSource().addValue("name", "x").addValue("code", code));
    }
    // 8 connection never closed: session-kept
    String h(String code) throws SQLException {
        Connection c = source.getConnection();
        PreparedStatement s = c.prepareStatement("select name from telescope where code = ?"); // finds session-kept
        s.setString(1, code);
        ResultSet r = s.executeQuery();
        return r.next() ? r.getString(1) : null;
    }
    // 9 String.format
    ResultSet i(Statement s, String code) throws SQLException {
        return s.executeQuery(String.format("select name from telescope where code = '%s'", code)); // finds value-in-text
    }
    // 10 "...".formatted
    ResultSet j(Statement s, String code) throws SQLException {
        return s.executeQuery("select name from telescope where code = '%s'".formatted(code)); // finds value-in-text
    }
    // 11 in list built: sound
    List<String> k(Connection c, List<String> codes) throws SQLException {
        String marks = String.join(",", Collections.nCopies(codes.size(), "?"));
        try (PreparedStatement s = c.prepareStatement("select name from telescope where code in (" + marks + ")")) {
            int n = 1;
            for (String code : codes) s.setString(n++, code);
            ResultSet r = s.executeQuery();
            List<String> out = new ArrayList<>();
            while (r.next()) out.add(r.getString(1));
            return out;
        }
    }
    // 12 builder with optional conditions: value-in-text once
    ResultSet l(Statement s, String code, String name) throws SQLException {
        StringBuilder q = new StringBuilder();
        q.append("select code from telescope where 1 = 1");
        if (code != null) q.append(" and code = ?");
        if (name != null) q.append(" and name = '").append(name).append("'"); // finds value-in-text
        return s.executeQuery(q.toString());
    }
    // 13 JPA native
    int m(String code) {
        return em.createNativeQuery("update telescope set name = 'x' where code = ?1").setParameter(1, code).executeUpdate();
    }
    // 14 JPA native ignored: count-ignored
    void n(String code) {
        em.createNativeQuery("update telescope set name = 'x' where code = ?1").setParameter(1, code).executeUpdate(); // finds count-ignored
    }
    // 15 lock
    void o(Connection c, String code) throws SQLException {
        try (PreparedStatement s = c.prepareStatement("select id from programme where code = ? for update")) { // unbounded-wait // finds unbounded-wait
            s.setString(1, code);
            s.executeQuery();
        }
    }
    // 16 loop with a new statement: one-by-one
    void p(Connection c, List<String> codes) throws SQLException {
        for (String code : codes) {
            try (PreparedStatement s = c.prepareStatement("delete from telescope where code = ?")) { // finds one-by-one
                s.setString(1, code);
                if (s.executeUpdate() != 1) throw new NoSuchElementException(code);
            }
        }
    }
    // 17 rollback missing
    void q(Connection c, String code) throws SQLException {
        c.setAutoCommit(false);
        PreparedStatement s = c.prepareStatement("delete from telescope where code = ?"); // finds never-committed
        s.setString(1, code);
        int n = s.executeUpdate();
        if (n != 1) throw new NoSuchElementException(code);
        c.commit();
    }
}
