using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Planning;

/// <summary>A task whose copies are locked for less time once its plan is changed, or not at all: who gets hold of one sign-in could then delete what nobody could before.</summary>
/// <param name="Task">The task.</param>
/// <param name="Before">For how long its copies are locked now.</param>
/// <param name="After">For how long they are from then on; null for not at all.</param>
/// <param name="Databases">Of how many databases.</param>
public sealed record WeakerLock(string Task, Duration Before, Duration? After, int Databases)
{
    /// <summary>What a change of a plan weakens; copies that are locked already stay so, whatever it says.</summary>
    /// <param name="before">The plan.</param>
    /// <param name="after">What it becomes; null when it is removed.</param>
    /// <param name="fleet">The fleet: who leaves the plan leaves its locks.</param>
    public static IReadOnlyList<WeakerLock> Of(Plan before, Plan? after, FleetModel fleet)
    {
        var members = before.Members.Of(fleet).Select(d => d.Id).ToHashSet();
        var stay = after is null ? 0 : after.Members.Of(fleet).Count(d => members.Contains(d.Id));
        return [.. before.Tasks.Where(t => t.Lock is not null).SelectMany(Weaker)];

        IEnumerable<WeakerLock> Weaker(PlanTask t)
        {
            var then = after?.Task(t.Id) is { } now && now.Kind == t.Kind && t.Stores.All(now.Stores.Contains) ? now.Lock : null;
            if (then is null || stay == 0)
            {
                yield return new(t.Id, t.Lock!.Value, null, members.Count);
                yield break;
            }

            if (then < t.Lock)
            {
                yield return new(t.Id, t.Lock!.Value, then, stay);
            }

            if (stay < members.Count)
            {
                yield return new(t.Id, t.Lock!.Value, null, members.Count - stay);
            }
        }
    }
}
