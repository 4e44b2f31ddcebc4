class Promises
{
    public async Task Dropped(NpgsqlConnection connection)
    {
        await using var command = new NpgsqlCommand("delete from exposure where quality > 9", connection); // finds not-awaited
        command.ExecuteNonQueryAsync();
    }

    public async Task Awaited(NpgsqlConnection connection)
    {
        await using var command = new NpgsqlCommand("delete from exposure where quality > 9", connection); // sound not-awaited
        await command.ExecuteNonQueryAsync();
    }

    public void Blocking(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand("delete from exposure where quality > 9", connection); // sound not-awaited
        command.ExecuteNonQuery();
    }
}
