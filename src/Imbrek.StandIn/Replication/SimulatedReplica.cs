using Imbrek.Core.Replication;
using Imbrek.StandIn.Engine;
using Imbrek.StandIn.Storage;

namespace Imbrek.StandIn.Replication;

/// <summary>
/// A replica in the world: pages of its own, to which the records that reached it are applied. How far it received follows from its <see cref="Feed"/>; here it is
/// worked out how far it has applied, and its records are brought to where both are.
/// </summary>
internal sealed class SimulatedReplica
{
    private readonly World world;
    private double lookedAt;

    public SimulatedReplica(World world, Replica replica, SimulatedDatabase source, KeptReplica? kept)
    {
        (this.world, Replica, Source) = (world, replica, source);
        Image = source.Beginning();
        Flow = LogFlow.Of(source.Database) ?? LogFlow.Of(source.Database with { LogBytesPerSecond = source.Script.LogBytesPerSecond })!;
        lookedAt = world.NowMs;
        if (kept is not null)
        {
            (AppliedTo, ReceivedPosition, AppliedPosition, Branch) = (kept.AppliedTo, kept.ReceivedPosition, kept.AppliedPosition, kept.Branch);
            (Unusable, ApplyStopped, ReaderUntil, SignInExpired) = (kept.Unusable, kept.ApplyStopped, kept.ReaderUntil, kept.SignInExpired);
            Foreign.AddRange(kept.Foreign);
        }
        else
        {
            AppliedTo = world.NowMs;
            Branch = source.Branch;
        }
    }

    public Replica Replica { get; set; }

    public SimulatedDatabase Source { get; }

    public PageImage Image { get; private set; }

    public LogFlow Flow { get; }

    public Feed Feed { get; set; } = null!;

    /// <summary>Records committed at the source that it has not received.</summary>
    public Queue<Transaction> Sent { get; } = new();

    /// <summary>Records received that it has not applied.</summary>
    public Queue<Transaction> Waiting { get; } = new();

    public long ReceivedPosition { get; private set; }

    public long AppliedPosition { get; private set; }

    public int Branch { get; private set; }

    /// <summary>Up to when it has applied everything, milliseconds; as of the last time it was brought on.</summary>
    public double AppliedTo { get; private set; }

    /// <summary>Why it cannot be used until it is mended; null while it can.</summary>
    public string? Unusable { get; set; }

    public bool ApplyStopped { get; set; }

    /// <summary>Until when somebody reads in it so that nothing can be applied, milliseconds.</summary>
    public long ReaderUntil { get; set; }

    public bool SignInExpired { get; set; }

    /// <summary>Rows written in it that its source never wrote.</summary>
    public List<KeptReplica.ForeignWrite> Foreign { get; } = [];

    /// <summary>Log received and not applied, bytes; as of the last time it was brought on.</summary>
    public double Pending { get; private set; }

    /// <summary>Bytes a second it last applied: what that costs its host.</summary>
    public double ApplyRate { get; private set; }

    /// <summary>What its host is left as, where its database ran there before another took over; null where it did not.</summary>
    public FormerSide? RanBefore => Source.Former is { } former && Replica.Place.Hosts.Any(h => h.Value == former.Host) ? former : null;

    private bool OnArray => Replica.Mode == ReplicaMode.Array;

    /// <summary>Whether all that could be applied is.</summary>
    public bool AppliedAll { get; private set; } = true;

    /// <summary>Why it applies nothing; null while it may.</summary>
    public string? WhyNotApplying(long now) =>
        ApplyStopped ? "applying was stopped"
        : ReaderUntil > now ? "a long-running reader holds it"
        : Unusable;

    /// <summary>Applies all that it has received, whatever it was held back by.</summary>
    public void ApplyAll()
    {
        AppliedTo = Math.Max(AppliedTo, Feed.ReceivedTo(world.NowMs));
        while (Waiting.TryDequeue(out var t))
        {
            Apply(t);
        }
    }

    /// <summary>Applies what it received up to an instant, and gives up what lies behind; goes back to it where it may. Says why not when it cannot, and is as before then.</summary>
    public string? StopAt(long at)
    {
        if (AppliedTo <= at)
        {
            while (Waiting.TryPeek(out var t) && t.Time <= at)
            {
                Apply(Waiting.Dequeue());
            }

            Waiting.Clear();
            AppliedTo = at;
            return null;
        }

        // A commit of the same millisecond counts as before it; one may have applied a moment more than was asked for without there being anything in it.
        if (AppliedTo - at > Replica.RewindSeconds * 1000 && Image.Time > at)
        {
            return $"it has applied everything up to {NodaTime.Instant.FromUnixTimeMilliseconds((long)AppliedTo)}, and can go back {Replica.RewindSeconds:0} s";
        }

        if (Image.Time > at)
        {
            (Image, AppliedTo) = (Source.StateAt(at, Branch), at);
            AppliedPosition = Image.Position;
        }

        Waiting.Clear();
        return null;
    }

    /// <summary>Another primary has begun a branch at a position: follows it, and forgets what it did not receive of the old one. Says why not when it cannot.</summary>
    public string? Follow(int branch, long position)
    {
        if (ReceivedPosition > position)
        {
            return $"it holds log up to {ReceivedPosition}, and the new primary begins at {position}";
        }

        Branch = branch;
        Refill(Sent, [.. Sent.Where(t => t.Position <= position)]);
        return null;
    }

    /// <summary>Goes on with what another object held of it, before it was set up differently.</summary>
    public void Take(SimulatedReplica before)
    {
        Image = before.Image;
        Refill(Waiting, [.. before.Waiting]);
        Refill(Sent, [.. before.Sent]);
    }

    /// <summary>A record was committed at the source, or is told of again after a restart.</summary>
    public void Hear(Transaction t)
    {
        if (t.Position <= AppliedPosition)
        {
            Apply(t);
        }
        else if (t.Position <= ReceivedPosition)
        {
            Waiting.Enqueue(t);
        }
        else
        {
            Sent.Enqueue(t);
        }
    }

    /// <summary>Brings its records to where its feed is, and applies what it may.</summary>
    public void Bring(long now)
    {
        var received = Feed.ReceivedTo(now);
        Receive(received);
        var seconds = (now - lookedAt) / 1000;
        lookedAt = now;
        var before = AppliedTo;
        var target = Math.Max(AppliedTo, OnArray ? received : Math.Min(Feed.AppliesTo(now), now - (Replica.DelaySeconds * 1000)));
        if (WhyNotApplying(now) is null)
        {
            if (!OnArray && Feed.AppliesByItself)
            {
                var most = Flow.SecondsUntil(NodaTime.Instant.FromUnixTimeMilliseconds((long)AppliedTo), (long)(Replica.ApplyRateIn(world.Fleet) * Math.Max(0, seconds))) * 1000;
                AppliedTo = Math.Min(target, AppliedTo + most);
            }
            else
            {
                AppliedTo = target;
            }
        }

        AppliedAll = AppliedTo >= target;
        ApplyRate = seconds > 0 ? Flow.Bytes(before, AppliedTo) / seconds : 0;
        Pending = Flow.Bytes(AppliedTo, received);
        while (Waiting.TryPeek(out var t) && t.Time <= AppliedTo)
        {
            Apply(Waiting.Dequeue());
        }
    }

    /// <summary>Somebody who reads here tries to write a row; what refuses it, or null where both sides take writes.</summary>
    public string? TryWrite() => Replica.Mode == ReplicaMode.BothActive ? null : $"it is a replica of {Source.Database.Id}, on branch {Branch}";

    /// <summary>A row is written in the replica itself, past all that refuses it, that its source knows nothing of.</summary>
    public void WriteForeign(int row, uint value)
    {
        Foreign.Add(new(row, value, AppliedPosition));
        Image.Rows[row] = value;
    }

    /// <summary>Puts it where a copy of its source brought it: everything up to an instant is in it, and applied.</summary>
    public void Seeded(PageImage image, double to, int branch)
    {
        (Image, AppliedTo, Branch, Unusable, ApplyStopped) = (image, to, branch, null, false);
        (AppliedPosition, ReceivedPosition) = (image.Position, image.Position);
        Foreign.Clear();

        // What it had received and not applied it asks for again.
        Refill(Sent, [.. Waiting.Concat(Sent).Where(t => t.Position > image.Position)]);
        Waiting.Clear();
        (lookedAt, Pending) = (world.NowMs, 0);
    }

    public KeptReplica Remember(long now) => new()
    {
        ReceivedTo = Feed.ReceivedTo(now),
        AppliedTo = AppliedTo,
        ReceivedPosition = ReceivedPosition,
        AppliedPosition = AppliedPosition,
        Branch = Branch,
        StandsSince = Feed.StandsSince,
        Unusable = Unusable,
        Held = Feed.Held,
        WaitsForWord = Feed.WaitsForWord,
        ApplyStopped = ApplyStopped,
        ReaderUntil = ReaderUntil,
        SignInExpired = SignInExpired,
        Foreign = [.. Foreign],
        Stages = (Feed as StagedFeed)?.Remember(),
    };

    private static void Refill(Queue<Transaction> queue, Transaction[] with)
    {
        queue.Clear();
        foreach (var t in with)
        {
            queue.Enqueue(t);
        }
    }

    /// <summary>Records travel as bytes, as they do to a store.</summary>
    private void Receive(double to)
    {
        List<Transaction>? batch = null;
        while (Sent.TryPeek(out var t) && t.Time <= to)
        {
            (batch ??= []).Add(Sent.Dequeue());
        }

        if (batch is not null)
        {
            foreach (var t in SetContent.ReadLog(SetContent.OfLog(batch)))
            {
                Waiting.Enqueue(t);
                ReceivedPosition = t.Position;
            }
        }
    }

    private void Apply(Transaction t)
    {
        Image.Apply(t);
        AppliedPosition = Math.Max(AppliedPosition, t.Position);
        foreach (var f in Foreign)
        {
            if (f.Position == t.Position)
            {
                // Told again after a restart: what was written in it between two records is written again.
                Image.Rows[f.Row] = f.Value;
            }
        }
    }
}
