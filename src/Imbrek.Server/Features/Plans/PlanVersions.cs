using System.Text;
using System.Text.Json;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Data;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Plans;

/// <summary>Versions of plans: written once, never changed; each change is in the ledger.</summary>
internal static class PlanVersions
{
    /// <summary>Writes the next version of a plan inside the caller's transaction.</summary>
    /// <param name="data">The caller's context.</param>
    /// <param name="fleet">The fleet it is written for: what is kept is read back against it first.</param>
    /// <param name="plan">The plan.</param>
    /// <param name="removed">Whether it is removed with this version.</param>
    /// <param name="basedOn">The version it was made from.</param>
    /// <param name="who">Who writes it.</param>
    /// <param name="now">When.</param>
    /// <param name="cancel">Stops it.</param>
    /// <returns>Its number; null when somebody else wrote it first.</returns>
    /// <exception cref="BadInputException">What would be kept cannot be read again; nothing is written.</exception>
    public static async Task<int?> WriteAsync(ImbrekContext data, FleetModel fleet, Plan plan, bool removed, int basedOn, string who, Instant now, CancellationToken cancel)
    {
        var document = PlanFile.Write(plan).ToJsonString();
        if (!removed && PlanFile.Read(Encoding.UTF8.GetBytes(document), fleet, default) is { Value: null } unreadable)
        {
            throw new BadInputException(unreadable.Faults[0].Member, $"cannot be kept: {unreadable.Faults[0].Message}");
        }

        var newest = await data.PlanVersions.Where(v => v.Plan == plan.Id.Value).MaxAsync(v => (int?)v.Number, cancel) ?? 0;
        if (newest != basedOn)
        {
            return null;
        }

        data.PlanVersions.Add(new PlanVersionRow { Plan = plan.Id.Value, Number = newest + 1, At = now, Who = who, Removed = removed, Document = document });
        await data.SaveChangesAsync(cancel);
        await LedgerTable.AppendAsync(data, now, who, removed ? "plan-removed" : "plan", "", JsonSerializer.Serialize(new { plan = plan.Id.Value, version = newest + 1, name = plan.Name }), cancel);
        return newest + 1;
    }

    /// <summary>Takes over the plans of an imported fleet: those in it are written, those not in it removed, those unchanged left alone.</summary>
    public static async Task ReplaceAsync(ImbrekContext data, FleetModel fleet, IReadOnlyList<Plan> before, string who, Instant now, CancellationToken cancel)
    {
        var plans = fleet.Plans;
        foreach (var (plan, removed) in plans.Select(p => (p, false)).Concat(before.Where(b => plans.All(p => p.Id != b.Id)).Select(b => (b, true))))
        {
            var old = before.FirstOrDefault(b => b.Id == plan.Id);
            if (removed || old is null || PlanFile.Write(old).ToJsonString() != PlanFile.Write(plan).ToJsonString())
            {
                var newest = await data.PlanVersions.Where(v => v.Plan == plan.Id.Value).MaxAsync(v => (int?)v.Number, cancel) ?? 0;
                await WriteAsync(data, fleet, plan, removed, newest, who, now, cancel);
            }
        }
    }

    /// <summary>What differs between two plans, member by member.</summary>
    public static IReadOnlyList<PlanEndpoints.DifferenceView> Difference(Plan? before, Plan after) =>
        Difference(before is null ? null : JsonSerializer.SerializeToElement(PlanFile.Write(before)), JsonSerializer.SerializeToElement(PlanFile.Write(after)));

    /// <summary>What differs between two versions as they were written, which may name what the fleet no longer has.</summary>
    public static IReadOnlyList<PlanEndpoints.DifferenceView> Difference(PlanVersionRow? before, PlanVersionRow after) =>
        Difference(before is null ? null : JsonSerializer.Deserialize<JsonElement>(before.Document), JsonSerializer.Deserialize<JsonElement>(after.Document));

    private static List<PlanEndpoints.DifferenceView> Difference(JsonElement? before, JsonElement after)
    {
        var found = new List<PlanEndpoints.DifferenceView>();
        Compare("", before, after);
        return found;

        void Compare(string path, JsonElement? a, JsonElement? b)
        {
            if (a?.ValueKind == JsonValueKind.Object && b?.ValueKind == JsonValueKind.Object)
            {
                foreach (var name in a.Value.EnumerateObject().Select(p => p.Name).Union(b.Value.EnumerateObject().Select(p => p.Name)))
                {
                    Compare(path.Length == 0 ? name : $"{path}.{name}", Member(a.Value, name), Member(b.Value, name));
                }
            }
            else if (path == "tasks" && a?.ValueKind == JsonValueKind.Array && b?.ValueKind == JsonValueKind.Array)
            {
                // Tasks are told apart by their names, not by their places.
                var (left, right) = (ById(a.Value), ById(b.Value));
                foreach (var id in left.Keys.Union(right.Keys))
                {
                    Compare($"tasks.{id}", left.TryGetValue(id, out var l) ? l : null, right.TryGetValue(id, out var r) ? r : null);
                }
            }
            else if (a?.GetRawText() != b?.GetRawText() && !(IsNothing(a) && IsNothing(b)))
            {
                found.Add(new(path, Text(a), Text(b)));
            }
        }

        static bool IsNothing(JsonElement? e) => e is null || e.Value.ValueKind == JsonValueKind.Null;

        static string? Text(JsonElement? e) => IsNothing(e) ? null : e!.Value.ValueKind is JsonValueKind.Object ? "(set)" : e.Value.ToString();

        static JsonElement? Member(JsonElement e, string name) => e.TryGetProperty(name, out var m) ? m : null;

        static Dictionary<string, JsonElement> ById(JsonElement list) => list.EnumerateArray().ToDictionary(t => t.GetProperty("id").GetString()!, t => t);
    }
}
