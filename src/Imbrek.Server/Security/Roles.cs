namespace Imbrek.Server.Security;

/// <summary>What people may do. Whoever may do more may also look.</summary>
internal static class Roles
{
    public const string Look = "look";
    public const string Operate = "operate";
    public const string Plan = "plan";
    public const string Approve = "approve";
    public const string Administer = "administer";

    public static readonly string[] All = [Look, Operate, Plan, Approve, Administer];

    /// <summary>The roles that satisfy an endpoint which asks for one.</summary>
    public static string[] Satisfying(string role) => role == Look ? All : [role, Administer];

    /// <summary>States the role an endpoint asks for; <c>Look</c> lets everybody in who is signed in.</summary>
    public static TBuilder Needs<TBuilder>(this TBuilder builder, string role)
        where TBuilder : IEndpointConventionBuilder =>
        builder.RequireAuthorization(role).WithMetadata(new NeededRole(role));

    /// <summary>The policy of what a token may not do: who people are, and what tokens there are, is changed by people alone.</summary>
    public const string SessionOnly = "session-only";

    /// <summary>The policy of what only tokens may ask for: never in a browser.</summary>
    public const string TokenOnly = "token-only";

    /// <summary>Lets nobody in by a token.</summary>
    public static TBuilder InSession<TBuilder>(this TBuilder builder)
        where TBuilder : IEndpointConventionBuilder => builder.RequireAuthorization(SessionOnly);

    /// <summary>Says that an endpoint computes: of those so many run at once, per person and in all.</summary>
    public static TBuilder Computes<TBuilder>(this TBuilder builder)
        where TBuilder : IEndpointConventionBuilder => builder.WithMetadata(new ComputesMark());
}

/// <summary>Says on an endpoint which role it asks for; the walk through all endpoints reads it.</summary>
internal sealed record NeededRole(string Role);

/// <summary>Marks an endpoint that computes.</summary>
internal sealed record ComputesMark;
