using NodaTime;

namespace Imbrek.Core.Planning;

/// <summary>A task whose copies are locked for less time once its plan is changed, or not at all: who gets hold of one sign-in could then delete what nobody could before.</summary>
/// <param name="Task">The task.</param>
/// <param name="Before">For how long its copies are locked now.</param>
/// <param name="After">For how long they are from then on; null for not at all.</param>
public sealed record WeakerLock(string Task, Duration Before, Duration? After)
{
    /// <summary>What a change of a plan weakens; copies that are locked already stay so, whatever it says.</summary>
    /// <param name="before">The plan.</param>
    /// <param name="after">What it becomes; null when it is removed.</param>
    public static IReadOnlyList<WeakerLock> Of(Plan before, Plan? after) =>
    [
        .. before.Tasks.Where(t => t.Lock is not null)
            .Select(t => new WeakerLock(t.Id, t.Lock!.Value, after?.Task(t.Id) is { } now && now.Kind == t.Kind && t.Stores.All(now.Stores.Contains) ? now.Lock : null))
            .Where(w => w.After is null || w.After < w.Before),
    ];
}
