using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Drills;

/// <summary>A change of roles done by hand, with the engine's own tools and nothing else: what each step of the runbook means then.</summary>
public static class DrillHands
{
    /// <summary>What the runbook of a drill is about.</summary>
    public static RunbookText.About About(RecoverySubject subject, Replica replica, DrillKind kind, DrillEnding ending, PlannedDrill planned, Id<Host> to, Instant at)
    {
        var d = subject.Database;
        var lost = planned.LostSeconds is > 0 and var seconds ? $"Up to {PlainDuration.Of(seconds)} of commits may be lost; a second person must agree." : "Nothing is lost.";
        return new(
            $"{DrillWords.Of(kind)} of {d.Name} ({d.Id}) to {replica.Id}",
            [
                $"Written {Instants.Write(at)} from what was known then; if that is long ago, look again.",
                $"From {d.Host} to {to}. {(ending switch { DrillEnding.Keep => "Roles stay changed; the old side follows.", DrillEnding.Home => "Roles change back at the end.", _ => "Replication ends; clients use the new side." })}",
                lost,
                $"Nobody can write for about {PlainDuration.Of(planned.WriteStopSeconds ?? 0)}.",
                subject.Objective is { } o ? $"Agreed: lose at most {PlainDuration.Of(o.RpoSeconds)}, be back within {PlainDuration.Of(o.RtoSeconds)}." : "Nothing was agreed for it.",
            ],
            s => kind == DrillKind.Automatic ? ByItself(s) ?? ByHand(s, d, replica, to) : ByHand(s, d, replica, to));
    }

    private static string? ByItself(Step s) => s.Kind switch
    {
        "stop" when s.NoWayBack => "Kill the engine's process there, and touch nothing else. Write down the time.",
        "promote" when !s.NoWayBack => "Wait, and write down when the replica has become the primary. If it has not within three times what is expected, go on with the runbook of a forced failover.",
        _ => null,
    };

    private static string? ByHand(Step s, Database d, Replica replica, Id<Host> to) => s.Kind switch
    {
        "precheck" => $"Sign in on both sides; see that {replica.Id} receives and applies, that both clocks agree, and that {to} has room. Stop here if one of these is not so.",
        "markers" => $"In a second window: once a second insert a row with a name and the time into a table made for it in {d.Id}, through the usual address, and note when one fails.",
        "tell" => "Tell those who use it, and write down when.",
        "stop" => "End all sessions but your own, and refuse new ones: read-only mode, a closed listener, or the instance shut down cleanly. Write down the time: from here nobody can write.",
        "caught" => $"Ask {s.Subject} for the position it has applied, and compare it with the last position of the old primary. Go on when they are equal.",
        "received" => $"Ask {s.Subject} for the time of the last commit it has received, and write it down.",
        "agree" => "Compare that time with those of the others of its group. All must be opened as of the earliest: where one has applied more and cannot go back, they do not belong together any more.",
        "out" => "Try to write one row there. It must be refused. If it is not, shut the instance down, or cut its network.",
        "promote" => "Have the replica end replication and open for writing, with the engine's own command.",
        "name" => "Write down the host it runs on now and, where the engine has them, the number of its new branch.",
        "check" => "Count the marker rows and read the last one; run the engine's own check of structure; run two queries whose answers you know; try to write on the old side, which must be refused.",
        "send" => "Look at it yourself before anybody else does.",
        "clients" => $"Change the address clients use (name record, virtual address, connection list) to {s.Subject}.",
        "back" => "See in the second window when a marker succeeds again, and write down the time.",
        "follow" => "Write down that it is a replica from now on, and of whom.",
        "copy" => "Take it back to where the new branch began, with the engine's own tool, or copy it anew.",
        "catch-up" => "Wait until its applied position is that of the new primary.",
        "prove" => "Insert a marker at the new primary and read it here; try to write here, which must be refused.",
        "watch" => "See that the monitoring knows the new roles.",
        "home" => "Decide whether roles change back now.",
        "base" => "Take a full backup of the new primary: it has none of its own branch yet.",
        "end" => "End the markers. Lost: from the last marker that is there to the time of the stop. Without service: from the stop to the first marker after it.",
        _ => null,
    };
}
