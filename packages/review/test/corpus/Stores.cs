using System;
using System.Collections.Generic;
using System.Data;
using System.Threading.Tasks;
using Npgsql;
using NpgsqlTypes;

namespace Observatory
{
    public class H
    {
        private readonly NpgsqlDataSource _source;
        private const string Rename = "UPDATE telescope SET name = @name WHERE code = @code";

        public H(NpgsqlDataSource source) => _source = source;

        public async Task<bool> RenameAsync(string code, string name)
        {
            await using var conn = await _source.OpenConnectionAsync();
            await using var cmd = new NpgsqlCommand(Rename, conn);
            cmd.Parameters.AddWithValue("name", NpgsqlDbType.Text, name);
            cmd.Parameters.AddWithValue("code", NpgsqlDbType.Text, code);
            var affected = await cmd.ExecuteNonQueryAsync();
            return affected == 1;
        }

        public async Task RenameBlindAsync(string code, string name)
        {
            await using var conn = await _source.OpenConnectionAsync();
            await using var cmd = new NpgsqlCommand("UPDATE telescope SET name = @name WHERE code = @code", conn); // finds count-ignored
            cmd.Parameters.AddWithValue("name", name);
            cmd.Parameters.AddWithValue("code", code);
            await cmd.ExecuteNonQueryAsync();
        }

        public void Missing(NpgsqlConnection conn, string code)
        {
            using var cmd = conn.CreateCommand();
            cmd.CommandText = "UPDATE telescope SET name = @name WHERE code = @code";
            cmd.Parameters.AddWithValue("@code", code); // finds parameter-count
            if (cmd.ExecuteNonQuery() != 1) throw new InvalidOperationException();
        }

        public object Concat(NpgsqlConnection conn, string code)
        {
            using var cmd = new NpgsqlCommand("SELECT name FROM telescope WHERE code = '" + code + "'", conn); // finds value-in-text
            return cmd.ExecuteScalar();
        }

        public object Interpolated(NpgsqlConnection conn, string code)
        {
            var sql = $"SELECT name FROM telescope WHERE code = '{code.Trim()}'"; // finds value-in-text
            using (var cmd = new NpgsqlCommand(sql, conn))
            {
                return cmd.ExecuteScalar();
            }
        }

        public async Task Transfer(string from, string to, decimal hours)
        {
            await using var conn = await _source.OpenConnectionAsync();
            await using var tx = await conn.BeginTransactionAsync(IsolationLevel.ReadCommitted);
            try
            {
                await Shift(conn, tx, from, -hours);
                await Shift(conn, tx, to, hours);
                await tx.CommitAsync();
            }
            catch
            {
                await tx.RollbackAsync();
                throw;
            }
        }

        private static async Task Shift(NpgsqlConnection conn, NpgsqlTransaction tx, string code, decimal by)
        {
            await using var cmd = new NpgsqlCommand("UPDATE budget SET hours = hours + @by WHERE code = @code", conn, tx);
            cmd.Parameters.AddWithValue("by", by);
            cmd.Parameters.AddWithValue("code", code);
            if (await cmd.ExecuteNonQueryAsync() != 1)
                throw new KeyNotFoundException(code);
        }

        public void NoCommit(NpgsqlConnection conn, string code)
        {
            using (var tx = conn.BeginTransaction())
            using (var cmd = new NpgsqlCommand("DELETE FROM telescope WHERE code = @code", conn, tx)) // finds never-committed
            {
                cmd.Parameters.AddWithValue("code", code);
                if (cmd.ExecuteNonQuery() == 0) throw new KeyNotFoundException(code);
            }
        }

        public void Loop(NpgsqlConnection conn, IEnumerable<long> ids)
        {
            using var cmd = new NpgsqlCommand("INSERT INTO exposure (id, quality) VALUES (@id, 0)", conn); // finds one-by-one, key-assigned
            var id = cmd.Parameters.Add("id", NpgsqlDbType.Bigint);
            foreach (var each in ids)
            {
                id.Value = each;
                cmd.ExecuteNonQuery();
            }
        }

        public string Open(string text, string code)
        {
            var conn = new NpgsqlConnection(text);
            conn.Open();
            using var cmd = new NpgsqlCommand("SELECT name FROM telescope WHERE code = $1", conn); // finds session-kept
            cmd.Parameters.Add(new NpgsqlParameter { Value = code });
            var name = (string)cmd.ExecuteScalar();
            conn.Close();
            return name;
        }

        public void All(NpgsqlConnection conn)
        {
            using var cmd = new NpgsqlCommand("DELETE FROM exposure WHERE 1=1", conn); // finds every-row
            cmd.ExecuteNonQuery();
        }
    }
}
