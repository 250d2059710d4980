using Imbrek.Core.Drivers;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>How the parts of a change stand, kept before anybody is told.</summary>
/// <param name="Done">What those that were carried out measured, by number.</param>
/// <param name="Begun">The one that was begun; null when none is.</param>
/// <param name="OwnErrors">How many errors in the engine's log are of trying whether a part can be one transaction.</param>
internal sealed record KeptParts(IReadOnlyDictionary<int, PartDone> Done, BegunPart? Begun, int OwnErrors = 0)
{
    /// <summary>Before the first.</summary>
    public static KeptParts None { get; } = new(new Dictionary<int, PartDone>(), null);

    /// <summary>The same once one has been carried out.</summary>
    public KeptParts With(int number, PartDone done) => this with { Done = new Dictionary<int, PartDone>(Done) { [number] = done }, Begun = null };
}

/// <summary>A part of a change that was begun.</summary>
/// <param name="Number">Its number.</param>
/// <param name="Transaction">The transaction that is all of it; null where its statements are carried out one by one.</param>
/// <param name="Done">What it measured, as far as it is done once that is committed.</param>
/// <param name="Round">The round in which it was, of those in which people decide that it be carried out.</param>
/// <param name="Refused">Whether its engine refused the statement after those: asked again, it goes on with that one.</param>
internal sealed record BegunPart(int Number, string? Transaction, PartDone Done, int Round = 0, bool Refused = false);
