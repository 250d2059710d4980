using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <summary>The input errors of section 7 that concern a stretch of lag by itself or together with those beside it.</summary>
internal static class LagRules
{
    /// <summary>Reports every fault; answers the lines that have one.</summary>
    public static HashSet<int> Check(IReadOnlyList<(LagStretch Lag, int Line)> lags, FleetModel fleet, FaultReport report)
    {
        var bad = new HashSet<int>();
        foreach (var (lag, line) in lags)
        {
            var replica = fleet.Replicas[lag.Replica];
            var database = fleet.DatabaseById[replica.Database];
            if (lag.Branch != 1 && database.Branches.All(b => b.Id != lag.Branch))
            {
                Fault(line, "branch", $"database '{database.Id}' has no branch {lag.Branch}");
            }
            else if (database.StartOf(lag.Branch) is var start && start > Instant.MinValue && lag.From - lag.ReceivedLag < start)
            {
                Fault(line, "from", "is before it had received the start of its branch");
            }

            if (lag.To < lag.From)
            {
                Fault(line, "to", "is before from");
            }

            if (lag.AppliedLag < lag.ReceivedLag)
            {
                Fault(line, "appliedLagSeconds", "is less than receivedLagSeconds");
            }

            if (lag.AppliedLeastLag > lag.AppliedLag)
            {
                Fault(line, "appliedLeastLagSeconds", "is more than appliedLagSeconds");
            }
            else if (lag.AppliedLeastLag < Duration.FromMilliseconds(ReplicaSource.Milliseconds(replica.DelaySeconds)))
            {
                Fault(line, "appliedLeastLagSeconds", $"is less than the delay of {replica.Id}");
            }
        }

        foreach (var replica in lags.GroupBy(l => l.Lag.Replica))
        {
            (LagStretch Lag, int Line)? last = null;
            foreach (var next in replica.OrderBy(l => l.Lag.From).ThenBy(l => l.Lag.To))
            {
                if (last is { } before && next.Lag.From < before.Lag.To)
                {
                    Fault(next.Line, "from", $"overlaps the stretch of line {before.Line}");
                }

                last = last is { } l && l.Lag.To > next.Lag.To ? last : next;
            }
        }

        return bad;

        void Fault(int line, string member, string message)
        {
            bad.Add(line);
            report.Fault(line, member, message);
        }
    }
}
