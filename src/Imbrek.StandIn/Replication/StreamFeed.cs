using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn.Replication;

/// <summary>
/// Log that comes as it is written. In step it takes of the link what is written; behind, it moves what it lacks and shares the link with all that is moved. While
/// nothing comes it stands, and what a commit that waits for it does then follows the replica.
/// </summary>
internal sealed class StreamFeed : Feed
{
    /// <summary>It is in step again when what it lacks comes in less than this.</summary>
    private const double NearlyThereSeconds = 0.5;

    private readonly bool waits;
    private double at;
    private double inStepSince;
    private bool inStep;
    private FairShare.Flow? moving;
    private double movingBytes;
    private string? reserved;
    private double reservedBytes;
    private bool stopsWrites;

    public StreamFeed(World world, IReadOnlyList<SimulatedReplica> members, Feed? feeder, KeptReplica? kept)
        : base(world, members, feeder)
    {
        waits = First.LosesNothing;
        at = world.NowMs;
        if (kept is { } k)
        {
            (at, StandsSince, Held, WaitsForWord) = (k.ReceivedTo, k.StandsSince, k.Held, k.WaitsForWord);
            WasCut = StandsSince is not null && !Held;
            if (stopsWrites = members.Any(m => m.Source.IsStoppedBy(Waited(m))))
            {
                GoOnWithoutItLater();
            }
        }
        else
        {
            (inStep, inStepSince) = (true, world.NowMs);
        }
    }

    /// <inheritdoc/>
    public override bool Steady => inStep || (StandsSince is not null && moving is null);

    /// <inheritdoc/>
    public override bool InStep => (inStep && waits) || stopsWrites;

    /// <summary>Since when every commit has waited for it.</summary>
    public double InStepSince => inStepSince;

    /// <inheritdoc/>
    public override double ReceivedTo(long now)
    {
        if (stopsWrites)
        {
            // Nothing can be committed: all that was is here.
            return now;
        }

        if (inStep)
        {
            return Math.Max(at, waits ? now : SourceHas(now) - HalfTripMs);
        }

        if (moving is { } flow)
        {
            var moved = movingBytes - World.Network.Left(flow);
            return Math.Min(SourceHas(now), at + (Flow.SecondsUntil(Instant.FromUnixTimeMilliseconds((long)at), (long)moved) * 1000));
        }

        return at;
    }

    /// <inheritdoc/>
    public override double AppliesTo(long now) => ReceivedTo(now);

    /// <inheritdoc/>
    public override void Update(long now)
    {
        var why = Obstacle(now);
        if (why is null && StandsSince is not null && (WaitsForWord |= WasCut && First.Resume == ResumeRule.ByHand))
        {
            why = "it was cut off and waits to be told to go on";
        }

        if (why is null && !inStep && IsLogGone(ReceivedTo(now), now, First.KeepLogSeconds))
        {
            foreach (var m in Members)
            {
                World.Replicas.BecomesUnusable(m, "its source no longer keeps the log it needs next");
            }

            why = Obstacle(now);
        }

        if (why is not null)
        {
            Stand(now, why);
        }
        else if (StandsSince is not null)
        {
            GoOn(now);
        }
        else if (!inStep && moving is null)
        {
            CatchUp(now);
        }
        else if (inStep && !Keeps(now))
        {
            Leave(now);
            CatchUp(now);
        }

        LookAtSourcesRoom(now);
        Reserve(now);
        LookAtRoom();
    }

    /// <inheritdoc/>
    public override void End()
    {
        Leave(World.NowMs);
        Speak(World.NowMs);
        Release();
        foreach (var m in Members)
        {
            m.Source.GoOn(World.NowMs, Full(m));
        }
    }

    /// <inheritdoc/>
    public override void GoOnFrom(double to)
    {
        Leave(World.NowMs);
        Speak(World.NowMs);
        (at, WaitsForWord, StandsSince, Why) = (to, false, null, null);
        CatchUp(World.NowMs);
    }

    /// <summary>Whether it was cut off rather than held.</summary>
    private bool WasCut { get; set; }

    private bool Keeps(long now) => LinkName is not { } link || Flow.InHour((int)(now / 3_600_000 % 24)) <= World.Network.CapacityOf(World.Network[link]) / (World.Network.UsersOf(World.Network[link]) + 1);

    private void Stand(long now, string why)
    {
        Why = why;
        if (StandsSince is not null)
        {
            return;
        }

        var waited = inStep && waits;
        Leave(now);
        StandsSince = now;
        WasCut = !Held;
        // Nobody waits for what was never there.
        if (!waited || Held || World.Faults.IsDown(Members[0].Source.Database.Host) || Members.Any(m => m.Unusable == WorldReplicas.Unseeded))
        {
            return;
        }

        // Every commit waits for it: none is made until it is back, or counts as cut off.
        stopsWrites = true;
        foreach (var m in Members)
        {
            m.Source.Stop(now, Waited(m));
        }

        GoOnWithoutItLater();
    }

    private void GoOnWithoutItLater()
    {
        if (First.WhenCut == WhenCut.GoOn)
        {
            var since = StandsSince;
            World.After((long)(First.CutAfterSeconds * 1000), () =>
            {
                if (StandsSince == since && stopsWrites)
                {
                    at = World.NowMs;
                    Speak(World.NowMs);
                }
            });
        }
    }

    private void GoOn(long now)
    {
        at = ReceivedTo(now);
        Speak(now);
        (StandsSince, Why, WasCut) = (null, null, false);
        CatchUp(now);
    }

    /// <summary>No longer in step, and nothing moves: it is where it is.</summary>
    private void Leave(long now)
    {
        at = ReceivedTo(now);
        inStep = false;
        if (moving is { } flow)
        {
            moving = null;
            World.Network.Cancel(flow);
        }

        Release();
    }

    /// <summary>Moves what it lacks, and what is written meanwhile, until it lacks next to nothing.</summary>
    private void CatchUp(long now)
    {
        var target = SourceHas(now);
        var bytes = Bytes(at, target);
        if (LinkName is not { } link)
        {
            Arrive(now, target);
            return;
        }

        var resource = World.Network[link];
        var share = World.Network.CapacityOf(resource) / (World.Network.UsersOf(resource) + 1);
        if (share > 0 && bytes <= share * NearlyThereSeconds && Keeps(now))
        {
            Arrive(now, target);
            return;
        }

        movingBytes = Math.Max(1, bytes);

        // One whose room for log is bounded takes no more than it applies.
        var cap = Members.Where(m => m.Replica.LogRoomBytes is not null).Select(m => m.Replica.ApplyRateIn(World.Fleet)).DefaultIfEmpty(double.PositiveInfinity).Min();
        moving = World.Network.Start([resource], movingBytes, cap, () =>
        {
            (moving, at) = (null, target);
            CatchUp(World.NowMs);
            Reserve(World.NowMs);
        });
    }

    private void Arrive(long now, double target)
    {
        at = target - (waits ? 0 : HalfTripMs);
        (inStep, inStepSince) = (true, now);
    }

    private void Speak(long now)
    {
        if (stopsWrites)
        {
            stopsWrites = false;
            foreach (var m in Members)
            {
                World.Live(m.Source);
                m.Source.GoOn(now, Waited(m));
            }
        }
    }

    /// <summary>Why nothing is committed at a source whose commits wait for a replica that is away.</summary>
    private static string Waited(SimulatedReplica m) => $"its commits wait for {m.Replica.Id}";

    /// <summary>Why nothing is committed at a source whose room for log is taken by what it keeps for a replica.</summary>
    private static string Full(SimulatedReplica m) => $"its volume for log is full, with log kept for {m.Replica.Id}";

    /// <summary>A source that keeps all its log for it has no room left one day, and stops.</summary>
    private void LookAtSourcesRoom(long now)
    {
        var keepsAll = First.KeepLogSeconds is null && First.KeepLogBytes is null && Members.All(m => m.Unusable is null);
        foreach (var m in Members)
        {
            var why = Full(m);
            var full = keepsAll && StandsSince is not null && Feeder is null && m.Flow.Bytes(ReceivedTo(now), now) > m.Source.Database.LogRoomBytes;
            if (full == m.Source.IsStoppedBy(why))
            {
                continue;
            }

            World.Live(m.Source);
            if (full)
            {
                World.Tell(m.Source.Database.Id, "replica", $"{m.Source.Database.Id} writes nothing: {why}");
                m.Source.Stop(now, why);
            }
            else
            {
                m.Source.GoOn(now, why);
            }
        }
    }

    /// <summary>Takes of link and host what is written now.</summary>
    private void Reserve(long now)
    {
        var (link, bytes) = inStep ? (LinkName, Flow.InHour((int)(now / 3_600_000 % 24))) : (null, 0);
        if (link == reserved && bytes == reservedBytes)
        {
            return;
        }

        Release();
        if (link is not null)
        {
            (reserved, reservedBytes) = (link, bytes);
            World.Network.Reserve(World.Network[link], bytes);
        }
    }

    private void Release()
    {
        if (reserved is { } link)
        {
            World.Network.Reserve(World.Network[link], -reservedBytes);
            (reserved, reservedBytes) = (null, 0);
        }
    }
}
