using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>A copy of one database kept current by shipping changes (section 7). Spans are seconds.</summary>
public sealed record Replica
{
    /// <summary>Its identifier.</summary>
    public required Id<Replica> Id { get; init; }

    /// <summary>The database it is a copy of.</summary>
    public required Id<Database> Database { get; init; }

    /// <summary>Where it lies.</summary>
    public required ReplicaPlace Place { get; init; }

    /// <summary>The replica it is fed by; null for the primary.</summary>
    public Id<Replica>? From { get; init; }

    /// <summary>How changes come.</summary>
    public required ReplicaMode Mode { get; init; }

    /// <summary>Of mode <see cref="ReplicaMode.Array"/>: whether a commit waits until the array has it.</summary>
    public bool Waits { get; init; }

    /// <summary>By how much it holds back what it received before it applies it.</summary>
    public double DelaySeconds { get; init; }

    /// <summary>How far it can be taken back behind what it has applied.</summary>
    public double RewindSeconds { get; init; }

    /// <summary>How long going back all of <see cref="RewindSeconds"/> takes.</summary>
    public double RewindTakesSeconds { get; init; }

    /// <summary>Whether it has credentials of its own, so that what is stolen at the primary does not reach it.</summary>
    public bool Apart { get; init; }

    /// <summary>When it can be read from.</summary>
    public ReplicaReadable Readable { get; init; } = ReplicaReadable.Always;

    /// <summary>How often it is looked at.</summary>
    public double WatchSeconds { get; init; } = 10;

    /// <summary>How fast it applies log, bytes per second; null for the engine's replay rate.</summary>
    public double? ApplyBytesPerSecond { get; init; }

    /// <summary>How long promoting it takes, what waits to be applied aside.</summary>
    public double PromoteSeconds { get; init; }

    /// <summary>Who lets it take over.</summary>
    public TakesOver TakesOver { get; init; }

    /// <summary>Of several that could take over the lowest goes first.</summary>
    public int Priority { get; init; } = 1;

    /// <summary>For how long its source keeps log for it; null when not stated.</summary>
    public double? KeepLogSeconds { get; init; }

    /// <summary>How many bytes of log its source keeps for it; null when not stated.</summary>
    public long? KeepLogBytes { get; init; }

    /// <summary>Room for received log at the replica, bytes; null when not stated.</summary>
    public long? LogRoomBytes { get; init; }

    /// <summary>What the primary does while it receives nothing.</summary>
    public WhenCut WhenCut { get; init; }

    /// <summary>How it goes on after it was cut off.</summary>
    public ResumeRule Resume { get; init; }

    /// <summary>After how long without anything received it counts as cut off.</summary>
    public double CutAfterSeconds { get; init; } = 10;

    /// <summary>The first instant at which it counts; null for the beginning of time.</summary>
    public Instant? Since { get; init; }

    /// <summary>The first instant at which it no longer counts; null when that is not known.</summary>
    public Instant? Until { get; init; }

    /// <summary>Its stages; null unless it is shipped.</summary>
    public ShippingStages? Stages { get; init; }

    /// <summary>Whether a commit waits until the replica has it, and nothing is lost while it is in step.</summary>
    public bool LosesNothing => Mode is ReplicaMode.Sync or ReplicaMode.BothActive || (Mode == ReplicaMode.Array && Waits);

    /// <summary>The replicas of its group that lie in the same site and have not ended, itself included: they are held, resumed and taken over together. Of a database in no group it stands by itself.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="at">When.</param>
    public IReadOnlyList<Replica> TogetherIn(FleetModel fleet, Instant at) => fleet.GroupOf(Database) is { } group
        ? [.. fleet.ReplicaList.Where(r => fleet.GroupOf(r.Database) == group && r.SiteIn(fleet) == SiteIn(fleet) && !(r.Until <= at))]
        : [this];

    /// <summary>The site it lies in.</summary>
    public Id<Site> SiteIn(FleetModel fleet) => Place switch
    {
        ReplicaPlace.OnHost h => fleet.Hosts[h.Host].Site,
        ReplicaPlace.OnArray a => fleet.Arrays[a.Array].Site,
        _ => throw new InvalidOperationException(),
    };

    /// <summary>The site its changes come from: that of the replica it is fed by, or of the primary's host.</summary>
    public Id<Site> SourceSiteIn(FleetModel fleet) =>
        From is { } feeder ? fleet.Replicas[feeder].SiteIn(fleet) : fleet.Hosts[fleet.DatabaseById[Database].Host].Site;

    /// <summary>The link its changes come over; null within one site, and where there is none.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="apart">Whether source and replica are in different sites.</param>
    public Link? LinkIn(FleetModel fleet, out bool apart)
    {
        var (here, there) = (SiteIn(fleet), SourceSiteIn(fleet));
        apart = here != there;
        return apart ? fleet.LinkBetween(there, here) : null;
    }

    /// <summary>How fast log can come, bytes per second: infinite within one site, 0 without a link.</summary>
    public double ReceiveRateIn(FleetModel fleet)
    {
        var link = LinkIn(fleet, out var apart);
        return apart ? link?.BytesPerSecond ?? 0 : double.PositiveInfinity;
    }

    /// <summary>How fast it applies log, bytes per second.</summary>
    public double ApplyRateIn(FleetModel fleet) => ApplyBytesPerSecond ?? fleet.Engines[fleet.DatabaseById[Database].Engine].ReplayBytesPerSecond;

    /// <summary>The host it would be opened on after a loss: its own, or the first that can open its array; null when none is left.</summary>
    public Host? HostAfter(Loss loss, FleetModel fleet) => Place switch
    {
        ReplicaPlace.OnHost h when loss.Spares(fleet.Hosts[h.Host]) => fleet.Hosts[h.Host],
        ReplicaPlace.OnArray a when loss.Spares(fleet.Arrays[a.Array]) => a.OpensOn.Select(h => fleet.Hosts[h]).FirstOrDefault(h => loss.Spares(h)),
        _ => null,
    };
}
