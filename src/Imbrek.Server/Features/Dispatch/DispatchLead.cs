using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Dispatch;

/// <summary>
/// The right to decide what starts: a lock that one process at a time has, for as long as its connection lives, and a number, higher for each lead,
/// that is checked in the transaction that keeps a decision. Who lost the lock without noticing keeps nothing.
/// </summary>
internal sealed class DispatchLead : IAsyncDisposable
{
    private const long Lock = 0x3_4D_42_52_45_4B;

    private readonly NpgsqlDataSource source;
    private readonly NpgsqlConnection connection;
    private readonly int number;

    private DispatchLead(NpgsqlDataSource source, NpgsqlConnection connection, DispatchRow row, Instant decidedTo)
    {
        (this.source, this.connection, number) = (source, connection, row.Lead);
        DecidedTo = decidedTo;
    }

    /// <summary>Whether somebody led before.</summary>
    public bool WasLed => number > 1;

    /// <summary>Up to when whoever led before decided; never later than this lead began.</summary>
    public Instant DecidedTo { get; }

    /// <summary>Takes the lead at <paramref name="now"/>; null when another process has it.</summary>
    public static async Task<DispatchLead?> TryTakeAsync(NpgsqlDataSource source, Instant now, CancellationToken cancel)
    {
        var connection = await source.OpenConnectionAsync(cancel);
        try
        {
            await using var take = new NpgsqlCommand($"select pg_try_advisory_lock({Lock})", connection);
            if (!(bool)(await take.ExecuteScalarAsync(cancel))!)
            {
                await connection.DisposeAsync();
                return null;
            }

            await using var data = ImbrekDatabase.Context(source);
            var row = await data.Dispatches.SingleOrDefaultAsync(cancel) ?? data.Dispatches.Add(new() { Id = 1, DecidedTo = now }).Entity;
            row.Lead++;
            await data.SaveChangesAsync(cancel);
            return new(source, connection, row, Instant.Min(now, row.DecidedTo));
        }
        catch
        {
            await ImbrekDatabase.CloseAsync(source, connection);
            throw;
        }
    }

    /// <summary>Throws when the lock may be gone: it goes with its connection.</summary>
    public async Task CheckAsync(CancellationToken cancel)
    {
        await using var alive = new NpgsqlCommand("select 1", connection);
        await alive.ExecuteScalarAsync(cancel);
    }

    /// <summary>Has what is written through <paramref name="keeping"/>, in its transaction, kept only while this lead is the last, as decided up to <paramref name="decidedTo"/>.</summary>
    /// <exception cref="LostException">Another process has led since.</exception>
    public async Task GuardAsync(NpgsqlConnection keeping, Instant decidedTo, CancellationToken cancel)
    {
        await using var guard = new NpgsqlCommand("update dispatch set decided_to = $2 where lead = $1", keeping);
        guard.Parameters.AddWithValue(number);
        guard.Parameters.AddWithValue(decidedTo);
        if (await guard.ExecuteNonQueryAsync(cancel) == 0)
        {
            throw new LostException();
        }
    }

    /// <summary>Lets another process lead.</summary>
    public ValueTask DisposeAsync() => ImbrekDatabase.CloseAsync(source, connection);

    /// <summary>Another process may lead.</summary>
    public sealed class LostException(Exception? inner = null) : Exception("another process may lead", inner);
}
