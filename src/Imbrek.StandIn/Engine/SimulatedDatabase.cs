using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.StandIn.Engine;

/// <summary>A database that lives: its image now, its log not yet backed up, and where its backups stand.</summary>
internal sealed class SimulatedDatabase
{
    private readonly ulong seed;
    private readonly long birth;
    private readonly TransactionStream stream;
    private bool keepsLog;

    public SimulatedDatabase(Database database, DatabaseScript script, ulong worldSeed, Instant birth, WorldState.DatabaseState? state)
    {
        Database = database;
        Script = script;
        seed = Draw.Of(worldSeed, database.Id.Value);
        this.birth = birth.ToUnixTimeMilliseconds();
        Named = [.. script.Changes];
        Image = new PageImage(script.Pages);
        keepsLog = database.LogMode == LogMode.Kept;
        stream = new TransactionStream(seed, script.Pages, script.TransactionsPerMinute, this.birth, Named);
        LogFrom = (0, this.birth);
        if (state is not null)
        {
            Named.AddRange(state.Named);
            LogFrom = (state.LogFromPosition, state.LogFromTime);
            Full = (state.FullId, state.FullPosition);
            LastSet = (state.LastSetId, state.LastSetPosition);
        }
    }

    public Database Database { get; }

    public DatabaseScript Script { get; }

    public PageImage Image { get; }

    public List<NamedChange> Named { get; }

    public List<Transaction> Unlogged { get; } = [];

    /// <summary>Where the next log backup starts: position and instant.</summary>
    public (long Position, long Time) LogFrom { get; set; }

    public (string? Id, long Position) Full { get; set; }

    public (string? Id, long Position) LastSet { get; set; }

    /// <summary>Its sets that still have a copy, by identifier.</summary>
    public Dictionary<string, BackupSet> Sets { get; } = [];

    /// <summary>Says whether a log backup will ever ask for its log; what nobody asks for need not be remembered.</summary>
    public void KeepLog(bool asked)
    {
        asked &= Database.LogMode == LogMode.Kept;
        if (asked && !keepsLog)
        {
            LogFrom = (Image.Position, Math.Max(LogFrom.Time, Image.Time));
        }
        else if (!asked)
        {
            Unlogged.Clear();
        }

        keepsLog = asked;
    }

    /// <summary>Lives on until an instant; calls back for each named change that is committed on the way.</summary>
    public void LiveUntil(long time, Action<Transaction>? named = null)
    {
        foreach (var t in stream.Until(time))
        {
            Image.Apply(t);
            if (keepsLog && t.Position > LogFrom.Position)
            {
                Unlogged.Add(t);
            }

            if (t.Marker is not null)
            {
                named?.Invoke(t);
            }
        }
    }

    /// <summary>The state at an instant, computed from the seed alone, without any backup.</summary>
    public PageImage StateAt(long time)
    {
        var image = new PageImage(Script.Pages);
        foreach (var t in new TransactionStream(seed, Script.Pages, Script.TransactionsPerMinute, birth, Named).Until(time))
        {
            image.Apply(t);
        }

        return image;
    }

    public WorldState.DatabaseState Remember() => new()
    {
        LogFromPosition = LogFrom.Position,
        LogFromTime = LogFrom.Time,
        FullId = Full.Id,
        FullPosition = Full.Position,
        LastSetId = LastSet.Id,
        LastSetPosition = LastSet.Position,
        Named = [.. Named.Skip(Script.Changes.Count)],
    };
}
