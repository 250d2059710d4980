using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;

namespace Imbrek.StandIn.Replication;

/// <summary>Log that is shipped: backed up at the source, copied, applied, each stage on its own clock and each kept for its own time.</summary>
internal sealed class StagedFeed : Feed
{
    private readonly ShippingStages stages;
    private readonly List<Parcel> parcels = [];
    private double backedUpTo;
    private double appliesTo;
    private double here;
    private bool backingUp;
    private bool copying;
    private bool over;

    public StagedFeed(World world, SimulatedReplica member, Feed? feeder, KeptReplica? kept)
        : base(world, [member], feeder)
    {
        stages = First.Stages!;
        (backedUpTo, here, appliesTo) = (kept?.Stages?.BackedUpTo ?? world.NowMs, kept?.ReceivedTo ?? world.NowMs, kept?.AppliedTo ?? world.NowMs);
        parcels.AddRange(kept?.Stages?.Parcels ?? []);
        if (kept is not null)
        {
            (StandsSince, Held, WaitsForWord) = (kept.StandsSince, kept.Held, kept.WaitsForWord);
        }

        Each(stages.Backup, BackUp);
        Each(stages.Copy, Copy);
        Each(stages.Apply, Apply);
    }

    /// <inheritdoc/>
    public override bool Steady => false;

    /// <inheritdoc/>
    public override bool AppliesByItself => false;

    /// <inheritdoc/>
    public override double ReceivedTo(long now) => here;

    /// <inheritdoc/>
    public override double AppliesTo(long now) => appliesTo;

    /// <summary>Whether it is closed to readers: it is between two applies that it can be read.</summary>
    public bool Applying { get; private set; }

    public KeptStages Remember() => new(backedUpTo, [.. parcels]);

    /// <inheritdoc/>
    public override void Update(long now)
    {
        Why = Obstacle(now);
        StandsSince = Why is null ? null : StandsSince ?? now;
        var next = parcels.FirstOrDefault(p => p.HereAt is null);
        if (Why is null && (next?.From ?? backedUpTo) > here)
        {
            World.Replicas.BecomesUnusable(Members[0], "its source no longer keeps the log backup it needs next");
            Why = Obstacle(now);
        }

        LookAtRoom();
    }

    /// <inheritdoc/>
    public override void End() => over = true;

    /// <inheritdoc/>
    public override void GoOnFrom(double to)
    {
        parcels.Clear();
        (here, appliesTo, backedUpTo, StandsSince, Why, WaitsForWord) = (to, to, to, null, null, false);
    }

    private void Each(ShippingStage stage, Action<long> what)
    {
        var every = Math.Max(1000, (long)(stage.EverySeconds * 1000));
        World.Schedule(((World.NowMs / every) + 1) * every, Tick);

        void Tick()
        {
            if (!over)
            {
                what((long)(stage.TakesSeconds * 1000));
                World.Schedule(World.NowMs + every, Tick);
            }
        }
    }

    /// <summary>At the source, which need not see the replica for it.</summary>
    private void BackUp(long takes)
    {
        var (from, to) = (backedUpTo, (double)SourceHas(World.NowMs));
        if (backingUp || World.Faults.IsDown(Members[0].Source.Database.Host) || to <= from)
        {
            return;
        }

        backingUp = true;
        World.After(takes, () =>
        {
            // What a restart breaks off begins again: it counts when it is there.
            (backingUp, backedUpTo) = (false, to);
            parcels.Add(new Parcel(from, to, Bytes(from, to), World.NowMs, null));
            parcels.RemoveAll(p => p.HereAt is { } here ? World.NowMs - here > (stages.KeepHereSeconds ?? double.MaxValue) * 1000 && p.To <= appliesTo : World.NowMs - p.MadeAt > (stages.KeepAtSourceSeconds ?? double.MaxValue) * 1000);
        });
    }

    private void Copy(long takes)
    {
        Update(World.NowMs);
        if (copying || StandsSince is not null)
        {
            return;
        }

        Parcel[] lot = [.. parcels.Where(p => p.HereAt is null)];
        if (lot.Length == 0)
        {
            return;
        }

        copying = true;
        World.After(takes, () =>
        {
            if (LinkName is { } link)
            {
                World.Network.Start([World.Network[link]], lot.Sum(p => p.Bytes), double.PositiveInfinity, Arrived);
            }
            else
            {
                Arrived();
            }
        });

        void Arrived()
        {
            copying = false;
            if (over || Obstacle(World.NowMs) is not null)
            {
                return;
            }

            foreach (var p in lot.Where(p => p.From <= here))
            {
                here = Math.Max(here, p.To);
                if (parcels.IndexOf(p) is var i and >= 0)
                {
                    parcels[i] = p with { HereAt = World.NowMs };
                }
            }
        }
    }

    private void Apply(long takes)
    {
        var to = here;
        if (Applying || to <= appliesTo || Members[0].WhyNotApplying(World.NowMs) is not null)
        {
            return;
        }

        Applying = true;
        World.After(takes, () =>
        {
            Applying = false;
            if (!over)
            {
                appliesTo = Math.Max(appliesTo, to);
            }
        });
    }
}
