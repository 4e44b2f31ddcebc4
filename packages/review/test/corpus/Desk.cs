using System.Threading.Tasks;
using Npgsql;

class Desk
{
    const string Load = "select title from programme where code = @code";

    public async Task<object> LoadOne(NpgsqlConnection connection, string code)
    {
        await using var command = new NpgsqlCommand(Load, connection);
        command.Parameters.AddWithValue("code", code);
        return await command.ExecuteScalarAsync();
    }

    public async Task<object> LoadInterpolated(NpgsqlConnection connection, string code)
    {
        await using var command = new NpgsqlCommand($"select title from programme where code = '{code}'", connection); // finds value-in-text
        return await command.ExecuteScalarAsync();
    }

    public object LoadConcatenated(NpgsqlConnection connection, string code)
    {
        using var command = new NpgsqlCommand("select title from programme where code = '" + code + "'", connection); // finds value-in-text
        return command.ExecuteScalar();
    }

    public object LoadFormatted(NpgsqlConnection connection, string code)
    {
        using var command = new NpgsqlCommand(string.Format("select title from programme where code = '{0}'", code), connection); // finds value-in-text
        return command.ExecuteScalar();
    }

    public object LoadText(NpgsqlConnection connection, string code)
    {
        using var command = connection.CreateCommand();
        command.CommandText = $"select title from programme where code = '{code}'"; // finds value-in-text
        return command.ExecuteScalar();
    }

    public object LoadMissing(NpgsqlConnection connection, string code)
    {
        using var command = new NpgsqlCommand("select title from programme where code = @code", connection); // finds parameter-count at 1
        command.Parameters.AddWithValue("kode", code);
        return command.ExecuteScalar();
    }

    public int RemoveAll(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("delete from exposure", connection); // finds every-row
        return command.ExecuteNonQuery();
    }

    public object WithoutEmail(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("select code from programme where contact_email = null", connection); // finds null-comparison
        return command.ExecuteScalar();
    }

    public object Misspelled(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("select titel from programme", connection); // finds unknown-name
        return command.ExecuteScalar();
    }

    public object Broken(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("select code from programme wher code = 'a'", connection); // finds does-not-parse
        return command.ExecuteScalar();
    }

    public void Rename(NpgsqlConnection connection, int id, string name)
    {
        using var command = new NpgsqlCommand("update observer set name = @name where id = @id", connection); // finds count-ignored
        command.Parameters.AddWithValue("name", name);
        command.Parameters.AddWithValue("id", id);
        command.ExecuteNonQuery();
    }

    public bool RenameCounted(NpgsqlConnection connection, int id, string name)
    {
        using var command = new NpgsqlCommand("update observer set name = @name where id = @id", connection);
        command.Parameters.AddWithValue("name", name);
        command.Parameters.AddWithValue("id", id);
        return command.ExecuteNonQuery() == 1;
    }

    public int SaveTitle(NpgsqlConnection connection, string code, string title)
    {
        using var command = new NpgsqlCommand("update programme set title = @title where code = @code", connection); // finds unguarded-save
        command.Parameters.AddWithValue("title", title);
        command.Parameters.AddWithValue("code", code);
        return command.ExecuteNonQuery();
    }

    public int ByName(NpgsqlConnection connection, string name)
    {
        using var command = new NpgsqlCommand("update observer set role = 'lead' where name = @name", connection); // finds not-one-row
        command.Parameters.AddWithValue("name", name);
        return command.ExecuteNonQuery();
    }

    public int TransferApart(NpgsqlConnection connection)
    {
        using var take = new NpgsqlCommand("update budget set hours = hours - 1 where code = 'A'", connection);
        using var give = new NpgsqlCommand("update budget set hours = hours + 1 where code = 'B'", connection); // finds apart
        return take.ExecuteNonQuery() + give.ExecuteNonQuery();
    }

    public int Transfer(NpgsqlConnection connection)
    {
        using var transaction = connection.BeginTransaction();
        using var take = new NpgsqlCommand("update budget set hours = hours - 1 where code = 'A'", connection, transaction);
        using var give = new NpgsqlCommand("update budget set hours = hours + 1 where code = 'B'", connection, transaction);
        var rows = take.ExecuteNonQuery() + give.ExecuteNonQuery();
        transaction.Commit();
        return rows;
    }

    public int NeverCommits(NpgsqlConnection connection)
    {
        using var transaction = connection.BeginTransaction();
        using var command = new NpgsqlCommand("delete from telescope where code = 'HF9'", connection, transaction); // finds never-committed
        return command.ExecuteNonQuery();
    }

    public object Hold(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("select code from telescope where code = 'HF1' for update", connection); // finds unbounded-wait
        return command.ExecuteScalar();
    }

    public int Each(NpgsqlConnection connection, string[] codes)
    {
        var rows = 0;
        foreach (var code in codes)
        {
            using var command = new NpgsqlCommand("update telescope set name = upper(name) where code = @code", connection); // finds one-by-one
            command.Parameters.AddWithValue("code", code);
            rows += command.ExecuteNonQuery();
        }
        return rows;
    }

    public object Verbatim(NpgsqlConnection connection, int programme)
    {
        using var command = new NpgsqlCommand(@"
            select id
            from block
            where assigned_to = null", connection); // finds null-comparison
        return command.ExecuteScalar();
    }

    public int Renumber(NpgsqlConnection connection, int old, int now)
    {
        using var command = new NpgsqlCommand("update observer set id = @now where id = @old", connection); // finds key-assigned
        command.Parameters.AddWithValue("now", now);
        command.Parameters.AddWithValue("old", old);
        return command.ExecuteNonQuery();
    }

    public object CastColumn(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("select name from observer where id::text = '7'", connection); // finds type-mismatch
        return command.ExecuteScalar();
    }
}
