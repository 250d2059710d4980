using Imbrek.Core.Fleet;

namespace Imbrek.Core.Objectives;

/// <summary>A loss that is supposed: a kind and, for host, array and site, the thing lost (section 3).</summary>
public readonly record struct Loss
{
    private Loss(LossKind kind, string? thing)
    {
        Kind = kind;
        Thing = thing;
    }

    /// <summary>What kind of loss.</summary>
    public LossKind Kind { get; }

    /// <summary>The identifier of the host, array or site lost; null for none and hostile, and for "the one it lies on".</summary>
    public string? Thing { get; }

    /// <summary>Nothing is lost.</summary>
    public static Loss None { get; } = new(LossKind.None, null);

    /// <summary>Everything that stolen credentials can delete.</summary>
    public static Loss Hostile { get; } = new(LossKind.Hostile, null);

    /// <summary>One host.</summary>
    public static Loss Of(Id<Host> host) => new(LossKind.Host, host.Value);

    /// <summary>One array.</summary>
    public static Loss Of(Id<StorageArray> array) => new(LossKind.Array, array.Value);

    /// <summary>One site.</summary>
    public static Loss Of(Id<Site> site) => new(LossKind.Site, site.Value);

    /// <summary>The loss of that kind that hits each database where it lies; resolve it with <see cref="For"/>.</summary>
    public static Loss OfKind(LossKind kind) => new(kind, null);

    /// <summary>Reads <c>none</c>, <c>hostile</c>, <c>host[:ID]</c>, <c>array[:ID]</c> or <c>site[:ID]</c>.</summary>
    /// <param name="text">The text.</param>
    /// <param name="fleet">The fleet in which the thing named must exist.</param>
    /// <param name="loss">The loss read.</param>
    /// <param name="error">What is wrong, when the answer is false.</param>
    public static bool TryParse(string text, FleetModel fleet, out Loss loss, out string error)
    {
        loss = None;
        error = "";
        var colon = text.IndexOf(':', StringComparison.Ordinal);
        var kind = colon < 0 ? text : text[..colon];
        var thing = colon < 0 ? null : text[(colon + 1)..];
        LossKind? read = kind switch
        {
            "none" => LossKind.None,
            "hostile" => LossKind.Hostile,
            "host" => LossKind.Host,
            "array" => LossKind.Array,
            "site" => LossKind.Site,
            _ => null,
        };
        if (read is null || (thing is not null && read is LossKind.None or LossKind.Hostile && colon >= 0))
        {
            error = $"loss '{text}': expected none, hostile, host[:ID], array[:ID] or site[:ID]";
            return false;
        }

        var known = thing is null || read switch
        {
            LossKind.Host => fleet.Hosts.ContainsKey(new(thing)),
            LossKind.Array => fleet.Arrays.ContainsKey(new(thing)),
            _ => fleet.Sites.ContainsKey(new(thing)),
        };
        if (!known)
        {
            error = $"loss '{text}': the fleet has no {kind} '{thing}'";
            return false;
        }

        loss = new Loss(read.Value, thing);
        return true;
    }

    /// <summary>The loss that a text names that was kept; none where the fleet no longer has what it took.</summary>
    public static Loss Kept(string text, FleetModel fleet) => TryParse(text, fleet, out var loss, out _) ? loss : None;

    /// <summary>The loss as it hits one database: bare kinds become the host, array or site it lies on; with no array, nothing is lost.</summary>
    public Loss For(Database database, FleetModel fleet)
    {
        if (Thing is not null || Kind is LossKind.None or LossKind.Hostile)
        {
            return this;
        }

        var host = fleet.Hosts[database.Host];
        return Kind switch
        {
            LossKind.Host => Of(host.Id),
            LossKind.Site => Of(host.Site),
            _ => host.Array is { } array ? Of(array) : None,
        };
    }

    /// <summary>The kind of loss that what was shown under this one stands for: one that leaves the host of the database alone takes nothing from it.</summary>
    public LossKind StandsFor(Database database, FleetModel fleet) => Kind is LossKind.None or LossKind.Hostile || !For(database, fleet).Spares(fleet.Hosts[database.Host]) ? Kind : LossKind.None;

    /// <summary>Whether a host is still there after the loss.</summary>
    public bool Spares(Host host) => Kind switch
    {
        LossKind.Host => host.Id.Value != Thing,
        LossKind.Array => Thing is null || host.Array?.Value != Thing,
        LossKind.Site => host.Site.Value != Thing,
        _ => true,
    };

    /// <summary>Whether an array is still there after the loss.</summary>
    public bool Spares(StorageArray array) => Kind switch
    {
        LossKind.Array => array.Id.Value != Thing,
        LossKind.Site => array.Site.Value != Thing,
        _ => true,
    };

    /// <summary>Whether a store is still there after the loss (a hostile deletion takes copies, not stores).</summary>
    public bool Spares(Store store, FleetModel fleet) => Kind switch
    {
        LossKind.Host => store.Host?.Value != Thing || Thing is null,
        LossKind.Array => Thing is null || (store.Array?.Value != Thing && (store.Host is not { } h || Spares(fleet.Hosts[h]))),
        LossKind.Site => store.Site.Value != Thing,
        _ => true,
    };

    /// <summary>The loss as a clause for people: "if site hillhouse is lost".</summary>
    public string Clause => Kind switch
    {
        LossKind.None => "after a bad change",
        LossKind.Hostile => "if stolen credentials delete what they can",
        _ => Thing is null ? $"if its {Kind.ToString().ToLowerInvariant()} is lost" : $"if {Kind.ToString().ToLowerInvariant()} {Thing} is lost",
    };

    /// <summary>The notation of <see cref="TryParse"/>.</summary>
    public override string ToString()
    {
        var kind = Kind.ToString().ToLowerInvariant();
        return Thing is null ? kind : $"{kind}:{Thing}";
    }
}
