using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn.Replication;

/// <summary>
/// The way on which log comes to a replica, or to all replicas of a group on one array, which stop at one common instant. It says up to when everything has been
/// received. Instants are milliseconds.
/// </summary>
internal abstract class Feed
{
    private readonly LogFlow[] flows;

    protected Feed(World world, IReadOnlyList<SimulatedReplica> members, Feed? feeder)
    {
        (World, Members, Feeder) = (world, members, feeder);
        flows = [.. members.Select(m => m.Flow)];
        Flow = flows.Length == 1 ? flows[0] : LogFlow.OfAll(flows);
        var link = First.LinkIn(world.Fleet, out _);
        (LinkName, HalfTripMs) = (link is null ? null : Routes.Of(link.One, link.Other), (link?.RoundTripMs ?? 0) / 2);
        foreach (var m in members)
        {
            m.Feed = this;
        }
    }

    public IReadOnlyList<SimulatedReplica> Members { get; }

    /// <summary>What feeds its source; null when that is the primary.</summary>
    public Feed? Feeder { get; }

    /// <summary>Whether somebody holds it.</summary>
    public bool Held { get; set; }

    /// <summary>Whether it was cut off and goes on only when told.</summary>
    public bool WaitsForWord { get; set; }

    /// <summary>Since when it receives nothing; null while it does.</summary>
    public double? StandsSince { get; protected set; }

    /// <summary>Why it receives nothing; null while it does.</summary>
    public string? Why { get; protected set; }

    /// <summary>Whether a replica applies what it received as it comes.</summary>
    public virtual bool AppliesByItself => true;

    /// <summary>Whether nothing changes in how it lags, but by what happens in the world.</summary>
    public abstract bool Steady { get; }

    /// <summary>Whether every commit waits for it now.</summary>
    public virtual bool InStep => false;

    protected World World { get; }

    protected LogFlow Flow { get; }

    protected Replica First => Members[0].Replica;

    /// <summary>Up to when everything has been received.</summary>
    public abstract double ReceivedTo(long now);

    /// <summary>Up to when what was received may be applied.</summary>
    public abstract double AppliesTo(long now);

    /// <summary>Something may have changed: goes on, or stands, as it must.</summary>
    public abstract void Update(long now);

    /// <summary>Ends it.</summary>
    public abstract void End();

    /// <summary>Goes on from where its members were put.</summary>
    public abstract void GoOnFrom(double to);

    /// <summary>Bytes of all its members between two instants.</summary>
    protected double Bytes(double from, double to) => Flow.Bytes(from, to);

    /// <summary>What there is to be sent: up to this instant.</summary>
    protected double SourceHas(long now) => Feeder?.ReceivedTo(now) ?? now;

    /// <summary>The link it comes over, as a resource; null within one site.</summary>
    protected string? LinkName { get; }

    /// <summary>How long what is sent is under way.</summary>
    protected double HalfTripMs { get; }

    /// <summary>What stands in its way; null when nothing does.</summary>
    protected string? Obstacle(long now)
    {
        var fleet = World.Fleet;
        var (here, there) = (First.SiteIn(fleet), First.SourceSiteIn(fleet));
        return Held ? "it is held"
            : Members.Select(m => m.Unusable).FirstOrDefault(u => u is not null) is { } unusable ? unusable
            : here != there && fleet.LinkBetween(here, there) is null ? $"there is no link between {there} and {here}"
            : here != there && World.Faults.IsDown(here, there) ? $"the link between {there} and {here} is down"
            : First.Place is ReplicaPlace.OnHost { Host: var host } && World.Faults.IsDown(host) ? $"host {host} is down"
            : Feeder is null && World.Faults.IsDown(Members[0].Source.Database.Host) ? $"host {Members[0].Source.Database.Host} is down"
            : Feeder?.First.Place is ReplicaPlace.OnHost { Host: var feeding } && World.Faults.IsDown(feeding) ? $"host {feeding} is down"
            : Members.Any(m => m.SignInExpired) ? "its sign-in at the source has expired"
            : Members.Any(m => m.Branch != m.Source.Branch) ? "its source lives on another branch"
            : null;
    }

    /// <summary>Whether the source no longer keeps what it needs next.</summary>
    protected bool IsLogGone(double received, long now, double? keepSeconds)
    {
        var bytes = Bytes(received, now);
        return now - received > keepSeconds * 1000 || bytes > First.KeepLogBytes;
    }

    /// <summary>Finds out whether the members' room for log is full, and ends what can no longer be used.</summary>
    protected void LookAtRoom()
    {
        foreach (var m in Members)
        {
            if (m.Unusable is null && m.Pending > m.Replica.LogRoomBytes)
            {
                World.Replicas.BecomesUnusable(m, "its volume for log was full: it must be mended, even now that there may be room");
            }
        }
    }
}

/// <summary>Log between two instants of the world.</summary>
internal static class LogBytes
{
    /// <summary>Bytes written between two instants, milliseconds; none when the second is not later.</summary>
    public static double Bytes(this LogFlow flow, double from, double to) =>
        to <= from ? 0 : flow.Between(Instant.FromUnixTimeMilliseconds((long)from), 0, (to - from) / 1000);
}
