using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Fleet;

/// <summary>The protected thing.</summary>
public sealed record Database
{
    /// <summary>Its identifier.</summary>
    public required Id<Database> Id { get; init; }

    /// <summary>What people call it.</summary>
    public required string Name { get; init; }

    /// <summary>The engine family it runs on.</summary>
    public required Id<EngineProfile> Engine { get; init; }

    /// <summary>The host it runs on now.</summary>
    public required Id<Host> Host { get; init; }

    /// <summary>Where it may be restored, in order of preference.</summary>
    public IReadOnlyList<Id<Host>> RecoveryHosts { get; init; } = [];

    /// <summary>The objective agreed for it; null when none is.</summary>
    public Id<Objective>? Objective { get; init; }

    /// <summary>The service it belongs to; null when not stated.</summary>
    public Id<Service>? Service { get; init; }

    /// <summary>Its size in bytes.</summary>
    public required long SizeBytes { get; init; }

    /// <summary>Bytes by which it grows a day; null when not known.</summary>
    public double? GrowthBytesPerDay { get; init; }

    /// <summary>Bytes of its data that change within a day; null when not known.</summary>
    public double? ChangeBytesPerDay { get; init; }

    /// <summary>Bytes of log it writes a second, mean over a day; null when not known.</summary>
    public double? LogBytesPerSecond { get; init; }

    /// <summary>The log rate of each hour of the day (UTC) over the mean; empty means even.</summary>
    public IReadOnlyList<double> LogByHour { get; init; } = [];

    /// <summary>Room for log at the primary, bytes; null when not stated. A volume that is full stops its writes.</summary>
    public long? LogRoomBytes { get; init; }

    /// <summary>What becomes of its log.</summary>
    public LogMode LogMode { get; init; } = LogMode.Kept;

    /// <summary>The engine's major version; null when not stated.</summary>
    public string? Version { get; init; }

    /// <summary>Seconds until a loss is noticed.</summary>
    public double DetectSeconds { get; init; }

    /// <summary>Seconds until somebody decides to restore.</summary>
    public double DecideSeconds { get; init; }

    /// <summary>Seconds to check the restored database.</summary>
    public double CheckSeconds { get; init; }

    /// <summary>Seconds to send clients to the restored database.</summary>
    public double RedirectSeconds { get; init; }

    /// <summary>What it holds of its instance; empty for an ordinary database. One that holds something is <b>instance data</b>: it comes back before the databases of its host and engine.</summary>
    public IReadOnlyList<InstancePart> Holds { get; init; } = [];

    /// <summary>Whether it is instance data.</summary>
    public bool IsInstanceData => Holds.Count > 0;

    /// <summary>Its turn among those of an instance: 0 for the machine, 1 for other instance data, 2 for what needs both.</summary>
    public int Turn => !IsInstanceData ? 2 : Holds.Contains(InstancePart.Image) ? 0 : 1;

    /// <summary>Words to find it by.</summary>
    public IReadOnlyList<string> Tags { get; init; } = [];

    /// <summary>The branches after branch 1, in order of their numbers.</summary>
    public IReadOnlyList<Branch> Branches { get; init; } = [];

    /// <summary>The branch it lives on: the last that began; 1 where none has left it.</summary>
    public int LiveBranch => Branches.Count == 0 ? 1 : Branches[^1].Id;

    /// <summary>Service seconds of a path: detect + decide + path + check + redirect (section 4).</summary>
    /// <param name="pathSeconds">Seconds of the restore path alone.</param>
    public double ServiceSeconds(double pathSeconds) =>
        DetectSeconds + DecideSeconds + pathSeconds + CheckSeconds + RedirectSeconds;

    /// <summary>When a branch became the live one; branch 1 from the beginning of time.</summary>
    /// <param name="branch">The number of the branch.</param>
    public Instant StartOf(int branch)
    {
        foreach (var b in Branches)
        {
            if (b.Id == branch)
            {
                return b.StartsAt;
            }
        }

        return Instant.MinValue;
    }
}
