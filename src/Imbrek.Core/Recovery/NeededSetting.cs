using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>
/// A setting of a host without which a way back does not work there (ways, section 16). It is changed by a step of the run and set back by another, and set back too where the run fails or is called off.
/// </summary>
/// <param name="Host">The host.</param>
/// <param name="Name">The setting.</param>
/// <param name="Value">What it must be.</param>
/// <param name="Stated">What the fleet says it is; null where it says nothing.</param>
/// <param name="NotBefore">When it may be changed, in a maintenance window; null for at once.</param>
public sealed record NeededSetting(Id<Host> Host, string Name, string Value, string? Stated, Instant? NotBefore = null)
{
    /// <summary>The kinds of the steps that change one, and set it back.</summary>
    public const string Set = "set", SetBack = "set-back";

    /// <summary>It is looked at the clock so often while a window is waited for.</summary>
    private static readonly Duration LooksAgain = Duration.FromMinutes(1);

    /// <summary>In words: what is to be what, and is what.</summary>
    public string Said => $"on {Host} {Name} is {Stated ?? "not stated"}, and must be {Value}";

    /// <summary>Those of a host that are not stated to be as they must.</summary>
    public static IReadOnlyList<NeededSetting> Of(Host host, IReadOnlyList<Setting> needs) =>
        needs.Count == 0 ? [] : [.. needs.Select(n => new NeededSetting(host.Id, n.Name, n.Value, host.Settings.FirstOrDefault(s => s.Name == n.Name)?.Value)).Where(n => n.Stated != n.Value)];

    /// <summary>Those that the steps of a run change.</summary>
    public static IReadOnlyList<NeededSetting> ChangedBy(IEnumerable<Step> steps) => By(Set, steps);

    /// <summary>Those that steps set back.</summary>
    public static IReadOnlyList<NeededSetting> SetBackBy(IEnumerable<Step> steps) => By(SetBack, steps);

    /// <summary>Whether another is the same setting of the same host.</summary>
    public bool IsSame(NeededSetting other) => other.Host == Host && other.Name == Name;

    /// <summary>The step that changes it.</summary>
    /// <param name="number">Its number.</param>
    /// <param name="after">The step before; 0 for none.</param>
    public Step ToSet(int number, int after) => RestoreAside.Last(number, Set, $"On {Host} set {Name} to {Value}{(Stated is null ? ", unless it is" : $": it is {Stated}")}{(NotBefore is { } at ? $"; not before {Instants.Write(at)}, when its maintenance window begins" : "")}", Host.Value, after == 0 ? [] : [after]) with
    {
        Undo = Undo.Own,
        RetryRefusals = false,
        TimeLimitSeconds = NotBefore is null ? RestoreAside.Limit(0) : null,
        Work = RunJson.Write(this),
    };

    /// <summary>The step that sets it back.</summary>
    /// <param name="number">Its number.</param>
    /// <param name="after">The step before.</param>
    /// <param name="only">Only after this choice; null for always.</param>
    public Step ToSetBack(int number, int after, Step.Guard? only = null) => RestoreAside.Last(number, SetBack, $"On {Host} set {Name} back to what it was", Host.Value, [after], only) with { Work = RunJson.Write(this) };

    /// <summary>Adds the steps that change some, one after the other.</summary>
    /// <param name="steps">Where to.</param>
    /// <param name="needs">Those that are changed.</param>
    internal static void AddSet(List<Step> steps, IReadOnlyList<NeededSetting> needs)
    {
        foreach (var need in needs)
        {
            steps.Add(need.ToSet(steps.Count + 1, steps.Count));
        }
    }

    /// <summary>Adds the steps that set them back.</summary>
    /// <param name="steps">Where to.</param>
    /// <param name="needs">Those that were changed.</param>
    /// <param name="only">Only after this choice; null for always.</param>
    internal static void AddSetBack(List<Step> steps, IReadOnlyList<NeededSetting> needs, Step.Guard? only)
    {
        foreach (var need in needs)
        {
            steps.Add(need.ToSetBack(steps.Count + 1, steps.Count, only));
        }
    }

    private static NeededSetting[] By(string kind, IEnumerable<Step> steps) => [.. steps.Where(s => s.Kind == kind).Select(s => RunJson.Read<NeededSetting>(s.Work)).DistinctBy(n => (n.Host, n.Name))];

    /// <summary>Carries one of its steps out.</summary>
    /// <param name="step">The step.</param>
    /// <param name="driver">Whose host it is.</param>
    /// <param name="call">Who calls.</param>
    /// <param name="now">The instant.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">It cannot be changed.</exception>
    public static async Task<StepResult> DoAsync(Step step, IRestoreDriver driver, RunCall call, Instant now, CancellationToken cancel)
    {
        var need = RunJson.Read<NeededSetting>(step.Work);
        if (step.Kind == SetBack)
        {
            return new StepResult(await driver.SetBackAsync(call, need.Host, need.Name, cancel));
        }

        return need.NotBefore is { } from && now < from
            ? new StepResult($"waits for the maintenance window of {need.Host}, from {Instants.Write(from)}", LookAgainAfter: Duration.Min(LooksAgain, from - now))
            : new StepResult(await driver.SetAsync(call, need.Host, need.Name, need.Value, cancel) is var was && was == need.Value ? $"it was {was} already" : $"it was {was}");
    }

    /// <summary>Takes a step back that changed one; nothing is done where it was set back.</summary>
    public static Task UndoAsync(Step step, IRestoreDriver driver, RunCall call, CancellationToken cancel)
    {
        var need = RunJson.Read<NeededSetting>(step.Work);
        return driver.SetBackAsync(call, need.Host, need.Name, cancel);
    }
}
