using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>Gathers the sets that predicted runs make, for the one evaluator. Positions are milliseconds: log grows with time.</summary>
public sealed class PredictedCatalogue : IPredictionSink
{
    private readonly IReadOnlyList<Series> series;
    private readonly Func<Id<Database>, bool> wanted;
    private readonly Dictionary<Id<Database>, Sets> databases = [];

    /// <summary>Makes an empty one.</summary>
    /// <param name="series">The series of the prediction, as in its input.</param>
    /// <param name="wanted">Of which databases sets are gathered; null for all.</param>
    public PredictedCatalogue(IReadOnlyList<Series> series, Func<Id<Database>, bool>? wanted = null) =>
        (this.series, this.wanted) = (series, wanted ?? (_ => true));

    private sealed class Sets
    {
        public List<BackupSet> All { get; } = [];

        public Id<BackupSet>? Full { get; set; }

        public Id<BackupSet>? State { get; set; }

        public Dictionary<(int Series, long Captured), int> Places { get; } = [];
    }

    /// <inheritdoc/>
    public void Add(in PredictedRun run)
    {
        var s = series[run.Series];
        if (run.End != RunEnd.Done || s.Task.Kind.Makes() is not { } kind || !wanted(s.Database.Id))
        {
            return;
        }

        if (!databases.TryGetValue(s.Database.Id, out var sets))
        {
            databases[s.Database.Id] = sets = new Sets();
        }

        var id = new Id<BackupSet>($"{run.Series}-{run.Captured}");
        var log = kind == SetKind.Log;
        var at = Instant.FromUnixTimeMilliseconds(run.Available);
        var lockFor = s.Task.Lock;
        var copies = new List<BackupCopy>(1 + s.Task.CopyTo.Count) { new(s.Task.Store!.Value, at, null, lockFor is { } l ? at + l : null, (long)run.StoredBytes, CopyState.Good) };
        for (var i = 0; i < s.Task.CopyTo.Count && i < 4; i++)
        {
            if (run.Copies[i] is > 0 and var there)
            {
                var copied = Instant.FromUnixTimeMilliseconds(there);
                copies.Add(new(s.Task.CopyTo[i], copied, null, lockFor is { } lc ? copied + lc : null, (long)run.StoredBytes, CopyState.Good));
            }
        }

        sets.Places[(run.Series, run.Captured)] = sets.All.Count;
        sets.All.Add(new BackupSet
        {
            Id = id,
            Database = s.Database.Id,
            Kind = kind,
            Parent = kind == SetKind.Differential ? sets.Full : kind == SetKind.Incremental ? sets.State : null,
            FromPosition = log ? run.CoversFrom : null,
            ToPosition = run.Captured,
            CoversFrom = log ? Instant.FromUnixTimeMilliseconds(run.CoversFrom) : null,
            CoversTo = Instant.FromUnixTimeMilliseconds(run.Captured),
            FinishedAt = at,
            DataBytes = (long)run.DataBytes,
            OutsideChain = s.Task.OutsideChain,
            RollForward = kind != SetKind.Export,
            Copies = copies,
        });
        if (!s.Task.OutsideChain && kind is (SetKind.Full or SetKind.Snapshot))
        {
            sets.Full = sets.State = id;
        }
        else if (!s.Task.OutsideChain && kind == SetKind.Incremental)
        {
            sets.State = id;
        }
    }

    /// <inheritdoc/>
    public void AddCopy(int series, long captured, int copier, long at)
    {
        if (databases.TryGetValue(this.series[series].Database.Id, out var sets) && sets.Places.TryGetValue((series, captured), out var place))
        {
            var (set, task) = (sets.All[place], this.series[copier].Task);
            var there = Instant.FromUnixTimeMilliseconds(at);
            if (set.Copies.All(c => c.Store != task.Store))
            {
                sets.All[place] = set with
                {
                    Copies = [.. set.Copies, new BackupCopy(task.Store!.Value, there, null, task.Lock is { } l ? there + l : null, set.Copies[0].StoredBytes, CopyState.Good)],
                };
            }
        }
    }

    /// <summary>The sets of one database that will be there.</summary>
    public DatabaseCatalogue Of(Id<Database> database) => new(database, databases.TryGetValue(database, out var sets) ? sets.All : []);
}
