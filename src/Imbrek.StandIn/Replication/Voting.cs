using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.StandIn.Engine;

namespace Imbrek.StandIn.Replication;

/// <summary>
/// The voters of groups. When the host of a primary is gone for as long as they need to notice, and a majority of them is left, they keep the old side out and have a replica take over by itself. One that
/// loses nothing does so only when it lacks nothing; one that can lose does so whatever it lacks: nobody counts it then.
/// </summary>
internal sealed class Voting(World world)
{
    internal const string KeptOut = "the voters keep it out while a replica takes over";

    /// <summary>Why a primary is gone whose host is there.</summary>
    internal const string Provoked = "its engine was stopped, and nobody helps it";

    /// <summary>A host has gone down.</summary>
    public void Notice(Id<Host> host)
    {
        foreach (var d in world.Databases.Where(d => d.Database.Host == host))
        {
            Notice(d);
        }
    }

    /// <summary>A primary is gone.</summary>
    public void Notice(SimulatedDatabase d)
    {
        if (world.Fleet.GroupOf(d.Database.Id) is { Voters.Count: > 0 } group)
        {
            var host = d.Database.Host;
            world.After((long)((group.NoticeSeconds ?? d.Database.DetectSeconds) * 1000), () => Vote(d, host));
        }
    }

    /// <summary>The world was opened: who had been noticed is noticed again, and what had been decided is done.</summary>
    public void Resume()
    {
        foreach (var host in world.Faults.DownHosts)
        {
            Notice(new Id<Host>(host));
        }

        foreach (var d in world.Databases.Where(d => d.IsStoppedBy(Provoked) && !d.IsStoppedBy(KeptOut)))
        {
            Notice(d);
        }

        foreach (var d in world.Databases.Where(d => d.IsStoppedBy(KeptOut)))
        {
            world.After(0, () => Begin(d));
        }
    }

    private void Vote(SimulatedDatabase d, Id<Host> host)
    {
        // It may have come back, be somewhere else by now, or a person may be at it.
        if ((!world.Faults.IsDown(host) && !d.IsStoppedBy(Provoked)) || d.Database.Host != host || d.IsStoppedBy(KeptOut) || d.IsStoppedBy(StandInReplicateDriver.KeptOut) || world.Fleet.GroupOf(d.Database.Id) is not { } group)
        {
            return;
        }

        var alive = group.Voters.Count(v => !world.Faults.IsDown(v));
        if (alive < (group.Voters.Count / 2) + 1)
        {
            world.Tell(d.Database.Id, "replica", $"{host} is gone, and {alive} of {group.Voters.Count} voters are no majority: nobody takes over");
            return;
        }

        world.Replicas.Around(() =>
        {
            if (Candidate(d) is not { } r)
            {
                return;
            }

            world.Live(d);
            d.Stop(world.NowMs, KeptOut);
            world.Tell(d.Database.Id, "replica", $"{r.Replica.Id} takes over by itself: {host} is gone, {alive} of {group.Voters.Count} voters are left");
            Begin(d);
        });
    }

    private void Begin(SimulatedDatabase d)
    {
        var began = world.NowMs;
        if (Candidate(d) is { } r)
        {
            world.After((long)Math.Ceiling((r.Replica.PromoteSeconds + (r.Pending / r.Replica.ApplyRateIn(world.Fleet))) * 1000), () => Promote(d, began));
        }
        else
        {
            Give(d);
        }
    }

    private void Promote(SimulatedDatabase d, long began)
    {
        if (!d.IsStoppedBy(KeptOut))
        {
            return;
        }

        world.Replicas.Around(() =>
        {
            if (Candidate(d) is not { } r)
            {
                Give(d);
                return;
            }

            var host = HostOf(r)!.Value;
            var made = world.Replicas.Promote(r, host, began);
            world.Drills.Moved(d.Database.Id, host);
            if (made.LostTransactions > 0)
            {
                world.Tell(d.Database.Id, "replica", $"{made.LostTransactions} commits over {made.LostSeconds:0} s are lost, and nobody was asked");
            }
        });
    }

    /// <summary>Nobody can take over after all: the old side may go on when it comes back.</summary>
    private void Give(SimulatedDatabase d)
    {
        world.Live(d);
        d.GoOn(world.NowMs, KeptOut);
    }

    private SimulatedReplica? Candidate(SimulatedDatabase d) => d.Replicas
        .Where(r => r.Replica.TakesOver == TakesOver.ByItself && r.Unusable is null && HostOf(r) is not null && (!r.Replica.LosesNothing || LacksNothing(d, r)))
        .MinBy(r => r.Replica.Priority);

    private bool LacksNothing(SimulatedDatabase d, SimulatedReplica r) => d.Committed((long)Math.Floor(r.Feed.ReceivedTo(world.NowMs)), world.NowMs) == 0;

    private Id<Host>? HostOf(SimulatedReplica r) => r.Replica.Place.Hosts.Where(h => !world.Faults.IsDown(h)).Select(h => (Id<Host>?)h).FirstOrDefault();
}
