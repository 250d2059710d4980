using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;

namespace Imbrek.Core.Timetable;

/// <content>What the simulation remembers of databases and of their tasks while it goes on.</content>
public sealed partial class Prediction
{
    private readonly record struct Happening(SeriesState? Series, long Due, Action? Do);

    private sealed class DatabaseRun(DatabaseLoad load, Host host, EngineProfile engine, long logsFrom)
    {
        public DatabaseLoad Load { get; } = load;

        public Host Host { get; } = host;

        public EngineProfile Engine { get; } = engine;

        public long LogsFrom { get; } = logsFrom;

        public long LogTo { get; set; }

        public long? FullAt { get; set; }

        public long? StateAt { get; set; }

        public double UnverifiedBytes { get; set; }

        public List<(int Series, long Captured, double Stored)> NotYetCopied { get; } = [];
    }

    private sealed class SeriesState(int number, Series series, DatabaseRun database, double pace, int[] way)
    {
        public int Number { get; } = number;

        public Series Series { get; } = series;

        public DatabaseRun Database { get; } = database;

        public TaskKind Kind { get; } = series.Task.Kind;

        public double Pace { get; } = pace;

        public int[] Way { get; } = way;

        public int[][] CopyWays { get; set; } = [];

        /// <summary>Where its sets are kept: the space of the store, how fast it takes them, and how long they stay (0 for always).</summary>
        public (double[] Space, double WriteRate, long Stay)[] Places { get; set; } = [];

        public double Ratio { get; } = database.Load.RatioOf(series.Task);

        public long Window { get; } = series.Task.Window is { } w ? (long)w.TotalMilliseconds : long.MaxValue;

        /// <summary>Whether a later task may copy what it makes.</summary>
        public bool IsCopiedLater { get; } = series.Task.Kind.Makes() is not null && series.Plan.Tasks.Any(t => t.Kind == TaskKind.CopyElsewhere);

        /// <summary>Whether the engine can do it at all: a log that is discarded cannot be backed up.</summary>
        public bool IsPossible { get; } = series.Task.Kind.Makes() is not { } set
            || (database.Engine.CanTake(set) && (set != Catalogue.SetKind.Log || series.Database.LogMode == LogMode.Kept));

        public bool MakesSet { get; } = series.Task.Kind.Makes() is not null;

        public double LogCap { get; } = series.Task.Kind == TaskKind.Log ? RunPace.Cap(database.Host, database.Engine, series.Task, 0, 0) : 0;

        public SeriesState[] AfterSuccess { get; set; } = [];

        public SeriesState[] AfterFailure { get; set; } = [];

        public List<long> Due { get; } = [];

        public int Cursor { get; set; }

        public long ExpandedTo { get; set; }

        public long BusyUntil { get; set; } = long.MinValue;

        public long? WaitsSince { get; set; }

        public bool CatchesUp { get; set; }

        public long Runs { get; set; }
    }

    private sealed record Waiting(SeriesState Series, PredictedRun Run, Trigger? Of);

    /// <summary>The set that a run follows.</summary>
    private sealed record Trigger(SeriesState Series, long Captured, double Stored);
}
