using Npgsql;

class Cases
{
    private readonly string url;

    public Cases(string url) => this.url = url;

    public string? Disposed(string code)
    {
        using var connection = new NpgsqlConnection(url);
        connection.Open();
        using var command = new NpgsqlCommand("select name from telescope where code = @code", connection); // sound session-kept, parameter-count, value-in-text
        command.Parameters.AddWithValue("code", code);
        return (string?)command.ExecuteScalar();
    }

    public string? Kept(string code)
    {
        var connection = new NpgsqlConnection(url);
        connection.Open();
        var command = new NpgsqlCommand("select name from telescope where code = @code", connection); // finds session-kept
        command.Parameters.AddWithValue("code", code);
        return (string?)command.ExecuteScalar();
    }

    public void Together(string from, string to)
    {
        using var connection = new NpgsqlConnection(url);
        connection.Open();
        using var transaction = connection.BeginTransaction();
        using var take = new NpgsqlCommand("update budget set hours = hours - 1 where code = @code", connection, transaction);
        take.Parameters.AddWithValue("code", from);
        using var give = new NpgsqlCommand("update budget set hours = hours + 1 where code = @code", connection, transaction); // sound apart, never-committed
        give.Parameters.AddWithValue("code", to);
        if (take.ExecuteNonQuery() != 1 || give.ExecuteNonQuery() != 1) throw new InvalidOperationException(from);
        transaction.Commit();
    }

    public void Apart(string from, string to)
    {
        using var connection = new NpgsqlConnection(url);
        connection.Open();
        using var take = new NpgsqlCommand("update budget set hours = hours - 1 where code = @code", connection);
        take.Parameters.AddWithValue("code", from);
        using var give = new NpgsqlCommand("update budget set hours = hours + 1 where code = @code", connection); // finds apart
        give.Parameters.AddWithValue("code", to);
        if (take.ExecuteNonQuery() != 1 || give.ExecuteNonQuery() != 1) throw new InvalidOperationException(from);
    }

    public void Guarded(string code, string title, int version)
    {
        using var connection = new NpgsqlConnection(url);
        connection.Open();
        using var command = new NpgsqlCommand(
            "update programme set title = @title, row_version = row_version + 1 where code = @code and row_version = @version", connection); // sound unguarded-save, parameter-count
        command.Parameters.AddWithValue("title", title);
        command.Parameters.AddWithValue("code", code);
        command.Parameters.AddWithValue("version", version);
        if (command.ExecuteNonQuery() != 1) throw new InvalidOperationException("changed meanwhile");
    }

    public void Overwritten(string code, string title)
    {
        using var connection = new NpgsqlConnection(url);
        connection.Open();
        using var command = new NpgsqlCommand("update programme set title = @title where code = @code", connection); // finds unguarded-save
        command.Parameters.AddWithValue("title", title);
        command.Parameters.AddWithValue("code", code);
        if (command.ExecuteNonQuery() != 1) throw new InvalidOperationException(code);
    }
}
