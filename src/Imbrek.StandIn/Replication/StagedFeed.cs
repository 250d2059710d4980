using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;

namespace Imbrek.StandIn.Replication;

/// <summary>
/// Log that is shipped: backed up at the source, copied, applied, each stage kept for its own time. A stage that a plan has a task for is carried out when that says so, and for as long as it says; the engine's own
/// clock carries out the others.
/// </summary>
internal sealed class StagedFeed : Feed
{
    private readonly ShippingStages stages;
    private readonly List<Parcel> parcels = [];
    private double backedUpTo;
    private double appliesTo;
    private double here;
    private double? keepsAtSource;
    private double? keepsHere;
    private bool over;

    /// <summary>Stages that the engine's own clock is at.</summary>
    private readonly HashSet<ShippingStep> underWay = [];

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

        (keepsAtSource, keepsHere) = (kept?.Stages?.KeepsAtSource, kept?.Stages?.KeepsHere);
        foreach (var step in Enum.GetValues<ShippingStep>())
        {
            Each(step);
        }
    }

    /// <summary>What a stage is about to do.</summary>
    /// <param name="To">Up to when it brings log; instants are milliseconds.</param>
    /// <param name="Bytes">How much.</param>
    /// <param name="Parcels">What is copied.</param>
    /// <param name="Link">The link it is moved over; null when it is not.</param>
    public sealed record Lot(double To, double Bytes, Parcel[] Parcels, string? Link = null);

    /// <inheritdoc/>
    public override bool Steady => false;

    /// <inheritdoc/>
    public override bool AppliesByItself => false;

    /// <inheritdoc/>
    public override double ReceivedTo(long now) => here;

    /// <inheritdoc/>
    public override double AppliesTo(long now) => appliesTo;

    public KeptStages Remember() => new(backedUpTo, [.. parcels]) { KeepsAtSource = keepsAtSource, KeepsHere = keepsHere };

    /// <summary>For how long a stage takes, seconds.</summary>
    public double TakesSeconds(ShippingStep step) => stages[step].TakesSeconds;

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

    /// <summary>What a stage would do now; null when there is nothing to do.</summary>
    /// <param name="step">The stage.</param>
    /// <param name="whyNot">What stands in its way; null when nothing does.</param>
    public Lot? Begin(ShippingStep step, out string? whyNot)
    {
        var now = World.NowMs;
        whyNot = null;
        switch (step)
        {
            // At the source, which need not see the replica for it.
            case ShippingStep.Backup:
                var source = Members[0].Source.Database.Host;
                whyNot = World.Faults.IsDown(source) ? $"host {source} is down" : null;
                var to = SourceHas(now);
                return whyNot is null && to > backedUpTo ? new(to, Bytes(backedUpTo, to), []) : null;
            case ShippingStep.Copy:
                Update(now);
                whyNot = Why;
                Parcel[] left = [.. parcels.Where(p => p.HereAt is null)];
                return whyNot is null && left.Length > 0 ? new(left[^1].To, left.Sum(p => p.Bytes), left, LinkName) : null;
            default:
                whyNot = Members[0].WhyNotApplying(now);
                return whyNot is null && here > appliesTo ? new(here, Bytes(appliesTo, here), []) : null;
        }
    }

    /// <summary>Ends a stage. Ended again, it finds that done.</summary>
    /// <param name="step">The stage.</param>
    /// <param name="lot">What it began with.</param>
    /// <param name="keepSeconds">For how long what it made is kept, seconds; null for as stated.</param>
    /// <returns>Why it came to nothing; null when it did not.</returns>
    public string? Finish(ShippingStep step, Lot lot, double? keepSeconds)
    {
        var now = World.NowMs;
        switch (step)
        {
            case ShippingStep.Backup when lot.To > backedUpTo:
                // What a restart breaks off begins again: it counts when it is there.
                parcels.Add(new Parcel(backedUpTo, lot.To, Bytes(backedUpTo, lot.To), now, null));
                (backedUpTo, keepsAtSource) = (lot.To, keepSeconds ?? stages.KeepAtSourceSeconds);
                parcels.RemoveAll(p => p.HereAt is { } since ? now - since > (keepsHere ?? stages.KeepHereSeconds ?? double.MaxValue) * 1000 && p.To <= appliesTo : now - p.MadeAt > (keepsAtSource ?? double.MaxValue) * 1000);
                break;
            case ShippingStep.Copy:
                if (over || Obstacle(now) is not null)
                {
                    return Obstacle(now) ?? "it is no replica any more";
                }

                keepsHere = keepSeconds ?? stages.KeepHereSeconds;
                foreach (var p in lot.Parcels.Where(p => p.From <= here))
                {
                    here = Math.Max(here, p.To);
                    if (parcels.IndexOf(p) is var i and >= 0)
                    {
                        parcels[i] = p with { HereAt = now };
                    }
                }

                break;
            case ShippingStep.Apply:
                appliesTo = Math.Max(appliesTo, lot.To);
                break;
        }

        return null;
    }

    /// <summary>Carries a stage out, and says how many bytes it was about and why it came to nothing.</summary>
    public void Do(ShippingStep step, double? keepSeconds, Action<double, string?> ended)
    {
        if (Begin(step, out var whyNot) is not { } lot)
        {
            ended(0, whyNot);
            return;
        }

        World.After((long)(TakesSeconds(step) * 1000), () =>
        {
            if (lot.Link is { } link)
            {
                World.Network.Start([World.Network[link]], lot.Bytes, double.PositiveInfinity, End);
            }
            else
            {
                End();
            }
        });

        void End() => ended(lot.Bytes, over ? "it is no replica any more" : Finish(step, lot, keepSeconds));
    }

    private void Each(ShippingStep step)
    {
        var every = Math.Max(1000, (long)(stages[step].EverySeconds * 1000));
        World.Schedule(((World.NowMs / every) + 1) * every, Tick);

        void Tick()
        {
            if (over)
            {
                return;
            }

            if (!World.Fleet.PlansOf(Members[0].Source.Database).Any(p => p.Tasks.Any(t => t.Kind.Ships() == step)) && underWay.Add(step))
            {
                Do(step, null, (_, _) => underWay.Remove(step));
            }

            World.Schedule(World.NowMs + every, Tick);
        }
    }
}
