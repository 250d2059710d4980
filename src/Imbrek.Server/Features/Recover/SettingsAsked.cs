using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Data;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Host = Imbrek.Core.Fleet.Host;

namespace Imbrek.Server.Features.Recover;

/// <summary>When settings of a host are changed that a way needs: at once, or in the next maintenance window of that host. Whoever begins it says which, and that is kept.</summary>
internal sealed class SettingsAsked
{
    /// <summary>The two answers.</summary>
    public const string AtOnce = "now", InWindow = "window";

    private readonly IReadOnlyList<PauseRow> pauses;
    private readonly Instant now;

    private SettingsAsked(IReadOnlyList<PauseRow> pauses, Instant now) => (this.pauses, this.now) = (pauses, now);

    /// <summary>A setting that must be changed.</summary>
    /// <param name="Stated">What the fleet says it is; null where it says nothing.</param>
    public sealed record SettingView(string Host, string Setting, string Value, string? Stated);

    /// <summary>A maintenance window.</summary>
    /// <param name="To">When it ends; null until somebody ends it.</param>
    public sealed record HostWindowView(Instant From, Instant? To, string Reason);

    /// <summary>What is asked.</summary>
    /// <param name="Needs">What must be changed.</param>
    /// <param name="Window">The next window of the host; null where none is set.</param>
    public sealed record SettingsView(IReadOnlyList<SettingView> Needs, HostWindowView? Window);

    /// <summary>With the windows known at an instant.</summary>
    public static async Task<SettingsAsked> AtAsync(ImbrekContext data, Instant now, CancellationToken cancel) => new(
        await data.Pauses.AsNoTracking().Where(p => p.Plan == null && p.Database == null && p.Store == null && (p.To == null || p.To > now)).OrderBy(p => p.From).ThenBy(p => p.Id).ToListAsync(cancel), now);

    /// <summary>What is to be asked; null where nothing must be changed.</summary>
    public SettingsView? Of(IReadOnlyList<NeededSetting> needs) => needs.Count == 0
        ? null
        : new([.. needs.Select(n => new SettingView(n.Host.Value, n.Name, n.Value, n.Stated))], WindowOf(needs[0].Host) is { } w ? new(w.From, w.To, w.Reason) : null);

    /// <summary>What must be changed, at the time that was answered; at once where nothing was yet.</summary>
    /// <exception cref="BadInputException">It is no answer, or the host has no window.</exception>
    public IReadOnlyList<NeededSetting> Answered(IReadOnlyList<NeededSetting> needs, string? when) => when switch
    {
        null or AtOnce => needs,
        InWindow => [.. needs.Select(n => n with
        {
            NotBefore = WindowOf(n.Host) is { } w ? (w.From > now ? w.From : null) : throw new BadInputException("settings", $"no maintenance window of {n.Host} is set: set one in Plans, or have it changed at once", 409, "no-window"),
        })],
        _ => throw new BadInputException("settings", $"'{InputBounds.Quote(when)}' is neither {AtOnce} nor {InWindow}"),
    };

    /// <summary>Refuses what has not been answered.</summary>
    /// <exception cref="BadInputException">Something must be changed, and nobody said when.</exception>
    public static void MustBeAnswered(IReadOnlyList<NeededSetting> needs, string? when)
    {
        if (needs.Count > 0 && when is null)
        {
            throw new BadInputException("settings", $"{string.Join("; ", needs.Select(n => n.Said))}: it is changed for this and set back afterwards; say whether at once ({AtOnce}) or in the next maintenance window ({InWindow})", 409, "settings");
        }
    }

    private PauseRow? WindowOf(Id<Host> host) => pauses.FirstOrDefault(p => p.Host is null || p.Host == host.Value);
}
