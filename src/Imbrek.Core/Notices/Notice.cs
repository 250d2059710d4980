using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Notices;

/// <summary>One message: what has one cause, over as many tasks, databases and times as it came.</summary>
/// <param name="cause">Equal for what has the same cause.</param>
/// <param name="kind">What is told: failed, works again, late, silent or odd.</param>
/// <param name="subject">What happened first, as a sentence.</param>
/// <param name="reason">Why tasks fail, when several of them may for the same reason; null otherwise.</param>
/// <param name="first">When it came first.</param>
public sealed class Notice(string cause, string kind, string subject, string? reason, Instant first)
{
    private readonly SortedSet<string> people = new(StringComparer.Ordinal);
    private readonly SortedSet<string> databases = new(StringComparer.Ordinal);
    private readonly HashSet<(Id<Plan> Plan, string? Task)> tasks = [];

    /// <summary>Equal for what has the same cause.</summary>
    public string Cause => cause;

    /// <summary>What is told: failed, works again, late, silent or odd.</summary>
    public string Kind => kind;

    /// <summary>People or groups it goes to: all whom a plan that it came of names, in order of their names.</summary>
    public IReadOnlyCollection<string> People => people;

    /// <summary>What happened, as a sentence; of several tasks, why and how many.</summary>
    public string Subject => reason is not null && tasks.Count > 1 ? $"{reason}: {tasks.Count} tasks fail" : subject;

    /// <summary>When it came first.</summary>
    public Instant First { get; } = first;

    /// <summary>When it came last.</summary>
    public Instant Last { get; private set; } = first;

    /// <summary>How often it came.</summary>
    public int Count { get; private set; }

    /// <summary>The databases it came of, in order of their names.</summary>
    public IReadOnlyCollection<string> Databases => databases;

    internal void Again(Plan plan, string? task, Id<Database> database, Instant at)
    {
        Last = Instant.Max(Last, at);
        Count++;
        people.UnionWith(plan.Tell.People);
        databases.Add(database.Value);
        tasks.Add((plan.Id, task));
    }
}
