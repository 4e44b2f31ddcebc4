using Npgsql;

class Rules
{
    static int Bound(NpgsqlConnection connection, string code)
    {
        using var command = new NpgsqlCommand("delete from budget where code = @code", connection);
        command.Parameters.AddWithValue("code", code);
        return command.ExecuteNonQuery();
    }

    static int Pasted(NpgsqlConnection connection, string code)
    {
        using var command = new NpgsqlCommand($"delete from budget where code = '{code}'", connection); // finds value-in-text
        return command.ExecuteNonQuery();
    }

    static int Every(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("delete from budget where true", connection); // finds every-row
        return command.ExecuteNonQuery();
    }

    static int Nothing(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("delete from block where id = 1 and assigned_to = null", connection); // finds null-comparison
        return command.ExecuteNonQuery();
    }

    static int Astray(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("delete from budgett where code = 'B-1'", connection); // finds unknown-name
        return command.ExecuteNonQuery();
    }
}
