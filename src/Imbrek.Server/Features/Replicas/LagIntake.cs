using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.State;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Replicas;

/// <summary>Takes in what watchers see of replicas: makes stretches of it, keeps them, and tells the other processes.</summary>
internal sealed class LagIntake(FleetState fleet, NpgsqlDataSource source, Peers peers)
{
    private readonly Turns turn = new();
    private readonly Dictionary<Id<Replica>, LagWatch.Watched> watched = [];

    /// <summary>Takes samples in, all or none of them.</summary>
    /// <param name="samples">The samples, checked.</param>
    /// <param name="cancel">Gives up; nothing is kept then.</param>
    /// <returns>How many stretches are another than before.</returns>
    public async Task<int> TakeAsync(IReadOnlyList<LagSample> samples, CancellationToken cancel)
    {
        using var mine = await turn.TakeAsync(cancel);
        var model = fleet.Fleet;
        var next = new Dictionary<Id<Replica>, LagWatch.Watched>();
        var changed = new Dictionary<(Id<Replica>, Instant), LagStretch>();
        foreach (var s in samples.OrderBy(s => s.At).Where(s => model.Replicas.ContainsKey(s.Replica)))
        {
            var replica = model.Replicas[s.Replica];
            var before = next.GetValueOrDefault(s.Replica) ?? watched.GetValueOrDefault(s.Replica);
            var now = next[s.Replica] = LagWatch.Next(replica, model.DatabaseById[replica.Database].StartOf(s.Branch), before, s);
            if (now.Stretch is { } stretch && stretch != before?.Stretch)
            {
                changed[(s.Replica, stretch.From)] = stretch;
            }
        }

        LagSample[] notes = [.. next.Values.Select(n => n.Sample).Where(Noteworthy)];
        if (changed.Count > 0 || notes.Length > 0)
        {
            await using var connection = await source.OpenConnectionAsync(cancel);
            await using var transaction = await connection.BeginTransactionAsync(cancel);
            await LagTable.UpsertAsync(connection, changed.Values, cancel);
            await ReplicaBook.SeenAsync(connection, transaction, notes, cancel);
            await transaction.CommitAsync(cancel);
            fleet.Change(changed.Values);
            if (notes.Length > 0)
            {
                await using var context = ImbrekDatabase.Context(source);
                await fleet.LoadNotesAsync(context, cancel);
            }
        }

        foreach (var (id, known) in next)
        {
            watched[id] = known;
        }

        if (changed.Count > 0 || notes.Length > 0)
        {
            await peers.TellAsync([], [], cancel, Peers.Shared.Lag);
        }

        return changed.Count;
    }

    /// <summary>Takes in what is known of a replica from the instant at which it began, though nobody looked then: what was seen of it since goes on from there.</summary>
    /// <param name="began">How it stood then.</param>
    /// <param name="cancel">Gives up; nothing is kept then.</param>
    public async Task BeganAsync(LagSample began, CancellationToken cancel)
    {
        using var mine = await turn.TakeAsync(cancel);
        var model = fleet.Fleet;
        if (!model.Replicas.TryGetValue(began.Replica, out var replica))
        {
            return;
        }

        var start = model.DatabaseById[replica.Database].StartOf(began.Branch);
        var known = LagWatch.Next(replica, start, null, began);
        if (watched.TryGetValue(began.Replica, out var seen) && seen.Sample.Branch == began.Branch && seen.Sample.At > began.At)
        {
            known = LagWatch.Next(replica, start, known, seen.Sample);
        }

        if (known.Stretch is { } stretch)
        {
            await using var connection = await source.OpenConnectionAsync(cancel);
            await LagTable.UpsertAsync(connection, [stretch], cancel);
            fleet.Change([stretch]);
            watched[began.Replica] = known;
            await peers.TellAsync([], [], cancel, Peers.Shared.Lag);
        }
    }

    private bool Noteworthy(LagSample s) => fleet.NoteOf(s.Replica) is var known && (known.HeldUpBy != s.HeldUpBy || known.Unusable is not null != s.Unusable || known.WatchedFrom != s.WatchedFrom);
}
