using Npgsql; using Dapper; using System.Text; using Microsoft.EntityFrameworkCore;
public class E
{
    // 1 sound
    public async Task<bool> A(NpgsqlDataSource d, string code)
    {
        await using var k = d.CreateCommand("delete from telescope where code = $1");
        k.Parameters.AddWithValue(code);
        return await k.ExecuteNonQueryAsync() == 1;
    }
    // 2 one too few
    public async Task B(NpgsqlDataSource d, string code)
    {
        await using var k = d.CreateCommand("update telescope set name = $1 where code = $2"); // finds parameter-count
        k.Parameters.AddWithValue(code);
        if (await k.ExecuteNonQueryAsync() != 1) throw new Exception();
    }
    // 3 object initialiser: count-ignored
    public void C(NpgsqlConnection c, string code)
    {
        using var k = new NpgsqlCommand("delete from telescope where code = @code", c) { Parameters = { new("code", code) } }; // finds count-ignored
        k.ExecuteNonQuery();
    }
    // 4 Dapper sound
    public async Task D(NpgsqlConnection c, string code)
    {
        var n = await c.ExecuteAsync("delete from telescope where code = @Code", new { Code = code });
        if (n != 1) throw new Exception();
    }
    // 5 Dapper interpolated
    public Task<int> F(NpgsqlConnection c, string code) => c.ExecuteAsync($"delete from telescope where code = '{code}'"); // finds value-in-text
    // 6 EF interpolated: sound
    public Task<int> G(DbContext db, string code) => db.Database.ExecuteSqlInterpolatedAsync($"delete from telescope where code = {code}");
    // 7 EF raw interpolated
    public int H(DbContext db, string code) => db.Database.ExecuteSqlRaw($"delete from telescope where code = '{code}'"); // finds value-in-text
    // 8 StringBuilder
    public int I(NpgsqlConnection c, string code)
    {
        var b = new StringBuilder("delete from telescope");
        b.Append(" where code = '" + code + "'"); // finds value-in-text
        using var k = new NpgsqlCommand(b.ToString(), c);
        return k.ExecuteNonQuery();
    }
    // 9 transaction never committed
    public void J(NpgsqlConnection c, string code)
    {
        using var t = c.BeginTransaction();
        using var k = new NpgsqlCommand("delete from telescope where code = @code", c, t); // finds never-committed
        k.Parameters.AddWithValue("code", code);
        if (k.ExecuteNonQuery() != 1) throw new Exception();
    }
    // 10 in loop
    public void K(NpgsqlConnection c, string[] codes)
    {
        foreach (var code in codes)
        {
            using var k = new NpgsqlCommand("insert into telescope (code, name, aperture_m) values (@code, @code, 1)", c); // finds one-by-one
            k.Parameters.AddWithValue("code", code);
            k.ExecuteNonQuery();
        }
    }
    // 11 not disposed
    public string L(string text, string code)
    {
        var c = new NpgsqlConnection(text);
        c.Open();
        var k = new NpgsqlCommand("select name from telescope where code = @code", c); // finds session-kept
        k.Parameters.AddWithValue("code", code);
        return (string)k.ExecuteScalar();
    }
    // 12 verbatim
    const string Load = @"
        select code, titel
          from programme
         where code = @code"; // finds unknown-name at -2
    public object M(NpgsqlConnection c, string code)
    {
        using var k = new NpgsqlCommand(Load, c);
        k.Parameters.Add(new NpgsqlParameter("code", code));
        return k.ExecuteScalar();
    }
    // 13 raw string
    public object N(NpgsqlConnection c, string code)
    {
        using var k = new NpgsqlCommand("""
            select name from telescope
             where code = null
            """, c); // finds null-comparison at -1
        return k.ExecuteScalar();
    }
}
