class Optional
{
    public async Task<int> BySeeing(NpgsqlConnection connection, int? seq)
    {
        var text = "update exposure set taken_at = now()";
        if (seq != null) text += " where quality > @seq"; // finds every-row
        await using var command = new NpgsqlCommand(text, connection);
        if (seq != null) command.Parameters.AddWithValue("seq", seq);
        return await command.ExecuteNonQueryAsync();
    }

    public async Task<int> ByChoice(NpgsqlConnection connection, bool late)
    {
        var text = $"delete from exposure {(late ? "where quality > 9" : "")}"; // finds every-row
        await using var command = new NpgsqlCommand(text, connection);
        return await command.ExecuteNonQueryAsync();
    }

    public async Task<int> ByBuilder(NpgsqlConnection connection, bool late)
    {
        var text = new StringBuilder("delete from exposure where true");
        if (late) text.Append(" and quality > 9"); // finds every-row
        await using var command = new NpgsqlCommand(text.ToString(), connection);
        return await command.ExecuteNonQueryAsync();
    }

    public async Task<int> OrElseEnds(NpgsqlConnection connection, int? seq)
    {
        var text = "delete from exposure";
        if (quality == null) throw new ArgumentException();
        text += " where quality > @seq"; // sound every-row
        await using var command = new NpgsqlCommand(text, connection);
        command.Parameters.AddWithValue("seq", seq);
        return await command.ExecuteNonQueryAsync();
    }
}
