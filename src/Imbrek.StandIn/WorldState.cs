using System.Text.Json;
using System.Text.Json.Serialization;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>What must be remembered, beside the catalogue and the bytes in the stores, to go on after a restart. Serialized as JSON.</summary>
public sealed record WorldState
{
    /// <summary>The world's clock, milliseconds.</summary>
    public long Now { get; init; }

    /// <summary>Seconds of the world a second of the wall clock.</summary>
    public double Pace { get; init; } = 1;

    /// <summary>The instant that was "now" when its history ended; the script is made again from it.</summary>
    [JsonConverter(typeof(InstantAsMilliseconds))]
    public Instant MadeAt { get; init; }

    /// <summary>How many days of history it has.</summary>
    public int HistoryDays { get; init; }

    /// <summary>State by database.</summary>
    public Dictionary<string, DatabaseState> Databases { get; init; } = [];

    /// <summary>Stores that are full.</summary>
    public List<string> FullStores { get; init; } = [];

    /// <summary>Links that are down, as "site|site".</summary>
    public List<string> DownLinks { get; init; } = [];

    /// <summary>Databases whose sign-in for backups has expired.</summary>
    public List<string> Refused { get; init; } = [];

    /// <summary>Databases whose backups begin and never end.</summary>
    public List<string> Hanging { get; init; } = [];

    /// <summary>Links that are slow, by name, with what they carry, bytes per second.</summary>
    public Dictionary<string, double> SlowLinks { get; init; } = [];

    /// <summary>Links that come and go.</summary>
    public List<string> FlappingLinks { get; init; } = [];

    /// <summary>Whether names are answered slowly.</summary>
    public bool NamesSlow { get; init; }

    /// <summary>Hosts that are down.</summary>
    public List<string> DownHosts { get; init; } = [];

    /// <summary>Clocks that are wrong, by host, in seconds ahead.</summary>
    public Dictionary<string, double> Clocks { get; init; } = [];

    /// <summary>State by replica.</summary>
    public Dictionary<string, Replication.KeptReplica> Replicas { get; init; } = [];

    /// <summary>Drills that are looked on at.</summary>
    public List<Drills.KeptDrill> Drills { get; init; } = [];

    /// <summary>Runs that are not over. Begun again after a restart.</summary>
    public List<OpenRun> Open { get; init; } = [];

    /// <summary>What one database remembers.</summary>
    public sealed record DatabaseState
    {
        /// <summary>Where the next log backup starts.</summary>
        public long LogFromPosition { get; init; }

        /// <summary>The instant it starts from, milliseconds.</summary>
        public long LogFromTime { get; init; }

        /// <summary>Whether it kept its log for a task that asks for it; null in a world that was kept before that was remembered.</summary>
        public bool? KeepsLog { get; init; }

        /// <summary>The full that differentials build on.</summary>
        public string? FullId { get; init; }

        /// <summary>Its position.</summary>
        public long FullPosition { get; init; }

        /// <summary>The set that the next incremental builds on.</summary>
        public string? LastSetId { get; init; }

        /// <summary>Its position.</summary>
        public long LastSetPosition { get; init; }

        /// <summary>Changes named while the world ran.</summary>
        public List<Engine.NamedChange> Named { get; init; } = [];

        /// <summary>Spans in which nothing was committed.</summary>
        public List<Engine.Silence> Silences { get; init; } = [];

        /// <summary>Why nothing is committed now; empty when something is.</summary>
        public List<string> Stops { get; init; } = [];

        /// <summary>Times in which a marker is written each second.</summary>
        public List<Engine.MarkSpan> Marks { get; init; } = [];

        /// <summary>Where it ran before a replica took over.</summary>
        public Engine.FormerSide? Former { get; init; }

        /// <summary>The versions that its branches began with, where they began with another than their parent.</summary>
        public Dictionary<int, string> Versions { get; init; } = [];

        /// <summary>The version that runs, once it has been moved to another; null before.</summary>
        public string? Version { get; init; }

        /// <summary>Whether the engine knows nothing of what its tables hold.</summary>
        public bool NoStatistics { get; init; }

        /// <summary>The host it runs on.</summary>
        public string? Host { get; init; }

        /// <summary>Its branches after the first.</summary>
        public List<BranchState> Branches { get; init; } = [];

        /// <summary>How it came into being; null for one that the script knows.</summary>
        public BirthState? Birth { get; init; }
    }

    /// <summary>A database that was made while others acted in the world: by which run, and, of one that began with what was restored, the names that its files and accounts got. What it held lies beside the world.</summary>
    public sealed record BirthState(
        long At, string Name, string Engine, string Host, long SizeBytes, double? LogBytesPerSecond, string? Service, string? Objective, List<string> Tags, List<string> RecoveryHosts, Guid Run = default, List<Core.Drivers.MappedName>? Names = null);

    /// <summary>A branch; instants in milliseconds.</summary>
    public sealed record BranchState(int Id, int Parent, long ForkPosition, long ForkAt, long StartsAt);
}

/// <summary>An instant as milliseconds of the Unix epoch.</summary>
internal sealed class InstantAsMilliseconds : JsonConverter<Instant>
{
    /// <inheritdoc/>
    public override Instant Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) => Instant.FromUnixTimeMilliseconds(reader.GetInt64());

    /// <inheritdoc/>
    public override void Write(Utf8JsonWriter writer, Instant value, JsonSerializerOptions options) => writer.WriteNumberValue(value.ToUnixTimeMilliseconds());
}
