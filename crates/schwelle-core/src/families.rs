//! Answers in families: one enum over what each family has found, one over its advice.

/// Makes `Evidence` and `Remedy` of the modules of the families, each of which has these two and says what can follow.
/// The names are those in schemas.
macro_rules! families {
    ($evidence:literal, $remedy:literal: $($family:ident $module:ident,)+) => {
        /// What was found, by family.
        #[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(JsonSchema))]
        #[serde(untagged)]
        #[cfg_attr(feature = "schema", schemars(rename = $evidence))]
        #[expect(missing_docs, reason = "the families have docs of their own")]
        pub enum Evidence {
            $($family($module::Evidence),)+
        }

        /// What is to be done about it, by family.
        #[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(JsonSchema))]
        #[serde(untagged)]
        #[cfg_attr(feature = "schema", schemars(rename = $remedy))]
        #[expect(missing_docs, reason = "the families have docs of their own")]
        pub enum Remedy {
            $($family($module::Remedy),)+
        }

        impl Remedy {
            /// What this program does next for it, in the order in which the advice names it.
            pub fn next(&self) -> Vec<Next> {
                match self {
                    $(Self::$family(remedy) => remedy.next(),)+
                }
            }
        }

        $(
            impl From<$module::Evidence> for Evidence {
                fn from(evidence: $module::Evidence) -> Self {
                    Self::$family(evidence)
                }
            }

            impl From<$module::Remedy> for Remedy {
                fn from(remedy: $module::Remedy) -> Self {
                    Self::$family(remedy)
                }
            }
        )+
    };
}

pub(crate) use families;
